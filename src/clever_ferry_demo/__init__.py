"""The demo world: a simulated computer with made-up games and stores, and stand-ins that play them.

Nothing here imports the engine: the stand-ins judge what the engine writes.
"""
