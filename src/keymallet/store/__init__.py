"""What is kept on disk: snapshots."""
