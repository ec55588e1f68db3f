"""Verdicts, tallies, exemptions, grace; since when a verdict has held and until when it will.

May import: everything from base to evaluating.
"""
