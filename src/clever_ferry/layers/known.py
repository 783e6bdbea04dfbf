"""What is known of the place that bytes are unwrapped from or wrapped for."""

from __future__ import annotations

from collections.abc import Mapping

from msgspec import Struct, field

from clever_ferry.naming import Value

__all__ = ["UNKNOWN", "Known"]


class Known(Struct, frozen=True):
    """Three kinds of names, none of which can stand for another's."""

    fields: Mapping[str, Value] = field(default_factory=dict)
    """Name fields, such as the account and the slot: headers repeat them."""
    stated: Mapping[str, str] = field(default_factory=dict)
    """What only the user can state, such as a key."""
    folders: Mapping[str, str] = field(default_factory=dict)
    """Known folders' paths by name, as programs at that place spell them."""

    def of(self, *fields: Mapping[str, Value]) -> Known:
        """Return the same with further name fields, of which the last count."""
        named = dict(self.fields)
        for more in fields:
            named.update(more)
        return Known(named, self.stated, self.folders)


UNKNOWN = Known()
"""A place of which nothing is known."""
