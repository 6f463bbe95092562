"""The station cell."""
