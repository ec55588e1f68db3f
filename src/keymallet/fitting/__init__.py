"""Guessing a column map from an export: what its headers say, and what its values look like."""
