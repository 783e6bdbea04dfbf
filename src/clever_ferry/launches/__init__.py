"""The first launch after a crossing: what the game does to what was carried."""
