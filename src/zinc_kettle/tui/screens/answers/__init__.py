"""The reader of answers."""
