"""Clever Ferry: carries save games between editions, proves that they load, and can undo it."""

__version__ = "0.1.0"
