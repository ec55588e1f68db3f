"""One module for each version of the tables, each after the one it names."""
