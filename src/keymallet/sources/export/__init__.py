"""Exports of any system, read through a column map: CSV and JSON."""
