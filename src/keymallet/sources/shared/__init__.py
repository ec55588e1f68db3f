"""What several sources share: keys, certificates, ageing rules, digests, bounds on what a file may hold.

May import: core.
"""
