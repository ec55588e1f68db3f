"""Planned accounts: what is held against what, and what first passwords tell."""
