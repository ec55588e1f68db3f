"""Expressions worked out over evidence, stage by stage, and how their values change with time.

May import: everything from base to linking.
"""
