"""Questions about judging: ahead, rehearse, compare, cases and their coverage, queries.

May import: everything from base to explaining.
"""
