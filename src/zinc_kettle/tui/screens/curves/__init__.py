"""Station Curves."""
