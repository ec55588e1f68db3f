"""The six topics in depth: what each asks in the rule language, and the report made of the answers.

May import: everything from base to explaining.
"""
