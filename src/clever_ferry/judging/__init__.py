"""The game's own word: a save is laid out in a scratch folder, and its own program loads it."""
