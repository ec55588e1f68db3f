"""The six topics in depth: for each what is asked of the evidence, and the report that comes of it.

A topic asks its questions in the rule language, with the limits and terms of the organisation's own
rulebook at hand, so that unknown facts stay unknown here as they do in verdicts.
"""
