"""Exports of any system, read through a column map: CSV and JSON.

May import: core, what stands beside this package, shared.
"""
