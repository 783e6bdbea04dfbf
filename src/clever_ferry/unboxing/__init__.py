"""Container files by hand: taken apart into plain pieces, and put together again."""
