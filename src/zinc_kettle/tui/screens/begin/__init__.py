"""The first page."""
