"""The stand-in for Orrery Yard: a yard that friends build together, on two systems."""
