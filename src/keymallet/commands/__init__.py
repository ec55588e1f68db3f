"""Commands: one module each, from arguments to calls to an exit code."""
