"""Directories: one interpreter of attributes, whichever way the entries come (LDIF, LDAP)."""
