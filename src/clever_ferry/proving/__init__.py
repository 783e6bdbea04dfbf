"""Proving: what was carried is read back as its own edition reads it, and compared."""

from clever_ferry.proving.comparing import FactPair, Proof, prove

__all__ = ["FactPair", "Proof", "prove"]
