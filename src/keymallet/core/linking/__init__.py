"""What only shows when rows of all sources lie side by side, as an ordered table of passes.

May import: base, facts, language, rulebook.
"""
