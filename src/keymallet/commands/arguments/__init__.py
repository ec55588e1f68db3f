"""What each command takes: arguments and examples, light to load.

May import: the registry of output formats, and nothing that is slow to load.
"""
