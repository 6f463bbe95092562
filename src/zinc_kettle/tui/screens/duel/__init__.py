"""Station Duel."""
