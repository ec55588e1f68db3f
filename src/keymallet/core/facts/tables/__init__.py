"""The fact tables, one module for each part of the world that they are about."""
