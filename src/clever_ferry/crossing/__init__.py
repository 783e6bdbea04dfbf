"""Crossings: planned, carried out, proved, recorded; undone, restored, set right."""
