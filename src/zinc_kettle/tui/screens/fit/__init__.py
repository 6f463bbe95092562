"""The Fit station."""
