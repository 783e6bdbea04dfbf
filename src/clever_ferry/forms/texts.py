"""JSON, INI and XML as nested values."""

from __future__ import annotations

import json
from typing import Any

import msgspec

from clever_ferry.errors import DamagedError

__all__ = ["TEXT_FORMS", "read_form"]

TEXT_FORMS = ("json", "ini", "xml")
_TOP = "\0top"
"""Stands for what an INI file says before its first section."""


def read_form(form: str, raw: bytes, what: str) -> Any:
    """Return a text of one of the `TEXT_FORMS` as values; raises DamagedError where it is none.

    >>> read_form("ini", b"day = 31\\n[sound]\\nloud = 7\\n", "the example")
    {'day': '31', 'sound': {'loud': '7'}}
    """
    if form == "ini":
        return _read_ini(raw, what)
    if form == "xml":
        from clever_ferry.forms.xml_text import read_xml

        return read_xml(raw, what)
    return _read_json(raw, what)


def _read_json(raw: bytes, what: str) -> Any:
    try:
        return msgspec.json.decode(raw)  # the same values as by `json`, but strict, and quicker
    except (msgspec.MsgspecError, UnicodeDecodeError, RecursionError):
        pass
    try:
        return json.loads(raw)
    except (ValueError, RecursionError) as error:
        raise DamagedError(f"{what} is no JSON that can be read ({error}).") from None


def _read_ini(raw: bytes, what: str) -> Any:
    import configparser

    parser = configparser.ConfigParser(interpolation=None, strict=False, allow_no_value=True)
    try:
        parser.read_string(f"[{_TOP}]\n{raw.decode('utf-8-sig')}")
    except (AttributeError, UnicodeDecodeError, configparser.Error) as error:
        # What the parser makes of such a line, up to Python 3.12 and from 3.13 on.
        if type(error).__name__ in ("AttributeError", "MultilineContinuationError"):
            raise DamagedError(
                f"{what} is no INI text: a line is indented below a key that has no value."
            ) from None
        raise DamagedError(f"{what} is no INI text ({error}).") from None
    sections = {name: dict(parser[name]) for name in parser.sections()}
    return {**sections.pop(_TOP), **sections}
