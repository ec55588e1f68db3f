"""Accounts about to be made: held against what exists, judged, held against what came of them."""
