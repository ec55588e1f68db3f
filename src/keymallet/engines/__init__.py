"""How much work is spread: over the processes of one machine."""
