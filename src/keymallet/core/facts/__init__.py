"""The declaration of all fact tables, the evidence they make up, and what a source hands over.

May import: base.
"""
