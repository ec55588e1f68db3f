"""What everything rests on: errors with a place, nearest words, lists in short, intervals.

May import: nothing of Keymallet's own.
"""
