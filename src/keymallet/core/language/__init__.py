"""The expression language of rulebooks: text, to syntax tree, to typed tree, to Polars.

May import: base, facts.
"""
