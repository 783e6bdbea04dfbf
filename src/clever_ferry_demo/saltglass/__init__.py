"""Saltglass, a made-up co-op world game, in the editions of two made-up stores."""
