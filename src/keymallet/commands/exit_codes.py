"""The exit codes of all commands."""

CLEAN, BREACH, FAILED, INCOMPLETE = 0, 1, 2, 3
"""Exit codes: nothing in breach at or above --fail-on; something is; the request could not be
carried out; judged, but the evidence is incomplete."""
STOPPED, READER_GONE = 130, 141
"""As shells count it: ended by an interrupt, or because nobody reads the output any more."""
