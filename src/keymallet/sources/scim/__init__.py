"""Accounts and people of SCIM 2.0 services."""
