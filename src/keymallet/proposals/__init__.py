"""Changes as files for people to carry out: one module for each form."""
