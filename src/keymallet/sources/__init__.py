"""Readers: one module for each format or protocol, from bytes to fact tables and intake notes."""
