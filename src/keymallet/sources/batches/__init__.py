"""Batches of accounts that are about to be made: read in each format, and written again with remarks."""
