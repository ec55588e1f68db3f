"""What the shell offers at a Tab: read from files, with nothing heavy loaded."""
