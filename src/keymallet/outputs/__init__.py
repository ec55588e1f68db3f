"""Outputs: one module for each format, from findings to bytes."""
