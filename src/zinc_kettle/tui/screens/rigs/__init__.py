"""The Rigs station."""
