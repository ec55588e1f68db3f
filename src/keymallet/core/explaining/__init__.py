"""Why a verdict is as it is: because, missing, remediation, ways in, findings.

May import: everything from base to judging.
"""
