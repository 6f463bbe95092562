"""The station Report."""
