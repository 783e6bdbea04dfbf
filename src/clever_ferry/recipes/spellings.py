"""Kinds of short texts that recipes have in many places."""

from typing import Annotated

from clever_ferry.model import spelled

__all__ = ["FieldName", "Id", "Line"]

Id = Annotated[
    str,
    spelled(
        "[a-z][a-z0-9]*(-[a-z0-9]+)*", "small letters, digits and single hyphens, 40 at most", 40
    ),
]
FieldName = Annotated[
    str, spelled("[a-z][a-z0-9_]*", "small letters, digits and _, 40 at most", 40)
]
Line = Annotated[
    str, spelled(r"[^\x00-\x1f\x7f]+", "one line of text, 300 characters at most", 300)
]
