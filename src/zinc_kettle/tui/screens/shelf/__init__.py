"""The station shelf."""
