"""Container files by hand: taken apart into plain pieces, and put together again."""

from clever_ferry.unboxing.opening import Opened, open_container
from clever_ferry.unboxing.recognising import recognise
from clever_ferry.unboxing.taking_apart import put_together, take_apart

__all__ = ["Opened", "open_container", "put_together", "recognise", "take_apart"]
