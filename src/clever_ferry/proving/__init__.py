"""Proving: what was carried is read back as its own edition reads it, and compared."""
