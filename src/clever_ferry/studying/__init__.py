"""Saves that no recipe knows: how they are wrapped, and what stands in them."""
