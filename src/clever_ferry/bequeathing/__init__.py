"""Bequests: the end of one game as the start of the next, by tables, mappings and templates."""
