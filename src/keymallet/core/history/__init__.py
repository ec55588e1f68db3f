"""Run against run: what a finding is known by from one run to the next, what becomes of it, why, and
by when and by whom it has to be mended.
"""
