"""Handing reports to servers: mail and logs. Each says what became of what it was given."""
