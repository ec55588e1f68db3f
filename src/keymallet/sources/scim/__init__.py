"""Accounts and people of SCIM 2.0 services.

May import: core, what stands beside this package, shared.
"""
