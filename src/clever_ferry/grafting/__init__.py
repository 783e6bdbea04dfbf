"""Parts of one save that go into another of the same game: rows with ids and references."""
