"""The logbook: every run of an estate, what it judged by, what it found, and what changed since the last."""
