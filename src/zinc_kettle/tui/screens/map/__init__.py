"""The station map."""
