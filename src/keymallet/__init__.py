"""Judges every account of an organisation against its own authentication and credential policies."""

__version__ = "0.1.0"
