"""What people look at on the terminal."""
