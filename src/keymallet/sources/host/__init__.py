"""Linux hosts: account files, locks, sign-ins, sudo, SSH keys, read as the system itself reads them.

May import: core, what stands beside this package, shared.
"""
