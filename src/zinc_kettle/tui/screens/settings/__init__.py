"""The settings."""
