"""XML as nested values, for facts: no entity is expanded, nothing outside is fetched.

An element with nothing but text is its text; else it is a mapping of its attributes (`@name`),
its children by their tag (a list where one tag stands several times), and its text (`text`).
"""

from __future__ import annotations

import io
from typing import Any
from xml.etree.ElementTree import Element, ParseError

from defusedxml.common import DefusedXmlException
from defusedxml.ElementTree import iterparse

from clever_ferry.errors import DamagedError

__all__ = ["read_xml"]

_DEEPEST = 100


def read_xml(raw: bytes, what: str) -> dict[str, Any]:
    """Read an XML document; raises DamagedError where it is none, or has entities of its own.

    >>> read_xml(b'<save day="4"><p>Isa</p><p>Wren</p></save>', "the example")
    {'save': {'@day': '4', 'p': ['Isa', 'Wren']}}
    """
    open_values: list[dict[str, Any]] = [{}]
    try:
        for event, element in iterparse(io.BytesIO(raw), ("start", "end"), forbid_dtd=True):
            if event == "start":
                open_values.append({f"@{name}": value for name, value in element.attrib.items()})
                if len(open_values) > _DEEPEST:
                    raise DamagedError(f"{what} nests more than {_DEEPEST} elements.")
                continue
            _add(open_values[-2], element.tag, _closed(open_values.pop(), element))
            element.clear()
    except DefusedXmlException:
        raise DamagedError(f"{what} declares entities, which no save needs.") from None
    except (ParseError, ValueError, LookupError) as error:
        raise DamagedError(f"{what} is no XML that can be read ({error}).") from None
    return open_values[0]


def _closed(value: dict[str, Any], element: Element) -> Any:
    text = (element.text or "").strip()
    if not value:
        return text
    return {**value, "text": text} if text else value


def _add(above: dict[str, Any], tag: str, value: Any) -> None:
    if tag not in above:
        above[tag] = value
    elif isinstance(above[tag], list):
        above[tag].append(value)
    else:
        above[tag] = [above[tag], value]
