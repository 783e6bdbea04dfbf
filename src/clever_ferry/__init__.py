"""Clever Ferry: carries save games between editions, reads back and compares, can undo it all."""

__version__ = "0.1.0"
