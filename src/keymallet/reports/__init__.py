"""What a run tells everyone who needs it: one module a format, all made from the same content."""
