"""Rulebook and register as data: the model, reading, includes, single questions.

May import: base, facts, language.
"""
