"""What a player would write down of a save, kept, set against another, and shown as a page."""
