"""Station Lineup."""
