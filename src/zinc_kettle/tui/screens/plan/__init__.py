"""The station plan."""
