"""Directories: one interpreter of attributes, whichever way the entries come (LDIF, LDAP).

May import: core, what stands beside this package, shared.
"""
