"""The rulebooks that ship, each beside its cases."""
