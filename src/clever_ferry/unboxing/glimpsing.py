"""A first look into one file that no recipe knows: what is packed in it, and how that begins."""

from __future__ import annotations

import io
import re
from collections.abc import Iterator

from clever_ferry.documents.document import form_of, nodes_in
from clever_ferry.documents.nodes import Node
from clever_ferry.errors import DamagedError, FerryError
from clever_ferry.forms.recognising import COMPRESSED, recognise
from clever_ferry.layers import LayerSpec, compile_layers
from clever_ferry.layers.spec import CompressedSpec
from clever_ferry.model import tagged
from clever_ferry.payload import BytesPayload, Payload, head, read_all
from clever_ferry.zips import open_zip

__all__ = ["glimpse"]

_WINDOW, _SHOWN = 4096, 32
_LARGEST_TEXT, _LARGEST_ZIP = 4 << 20, 256 << 20
_MEMBERS, _KEYS = 8, 6
_LONGEST_NAME = 120
_TYPED = re.compile(rb"""=\s*["'\[{]""")
"""What TOML has in most files, and INI in few."""
_NAMED = re.compile(rb"(?:\s*#[^\n]*\n|---\r?\n)*[\w.-]+:[ \r\n]")
"""How most files of YAML begin, after remarks."""


def glimpse(payload: Payload) -> list[str]:
    """Return in a few lines what a file is, one packing taken off; nothing is unpacked to disk."""
    try:
        return list(_told(payload, "It is"))
    except FerryError as error:
        return [f"It can't be read further: {error.what}"]


def _told(payload: Payload, front: str) -> Iterator[str]:
    start = head(payload, _WINDOW)
    kind = recognise(start) if start else ""
    if not start:
        yield f"{front} empty."
    elif kind in COMPRESSED:
        steps: list[LayerSpec] = [tagged(CompressedSpec, kind)()]
        inside = compile_layers({"it": steps}, {})["it"].unwrap(payload).payload
        yield f"{front} packed with {kind}."
        yield from _told(inside, "Within, it is") if front == "It is" else ()
    elif kind == "zip":
        yield from _members(payload, front)
    elif kind == "text":
        yield f"{front} {_text(payload)}."
        first = start.decode("utf-8", "replace").strip().splitlines()
        yield f"It begins: {first[0][:70] if first else ''}"
    else:
        known = {"sqlite": "an SQLite database", "picture": "a picture", "tar": "a tar archive",
                 "archive": "an archive of another kind"}  # fmt: skip
        yield f"{front} {known.get(kind, 'bytes of no form that is known here')}."
        if kind not in known:
            shown = "".join(chr(b) if 32 <= b < 127 else "." for b in start[:_SHOWN])
            yield f"It begins: {start[:16].hex(' ')}  {shown}"


def _members(payload: Payload, front: str) -> Iterator[str]:
    raw = read_all(payload, limit=_LARGEST_ZIP, what="the zip")
    try:
        with open_zip(io.BytesIO(raw), "it") as archive:
            names = [info.filename for info in archive.infolist() if not info.is_dir()]
    except DamagedError as error:
        yield f"{front} a zip that can't be read ({error.what.rstrip('.')})."
        return
    more = f" and {len(names) - _MEMBERS:,} more" if len(names) > _MEMBERS else ""
    shown = ", ".join(name[:_LONGEST_NAME] for name in names[:_MEMBERS])
    yield f"{front} a zip of {len(names):,} files: {shown}{more}."


def _text(payload: Payload) -> str:
    """Return what a text is a text of."""
    try:
        raw = read_all(payload, limit=_LARGEST_TEXT, what="the text")
    except DamagedError:
        return "a long text"
    start, lined = raw.lstrip()[:1], _lined(raw)
    for form, fits in (
        ("json", start in b"{["), ("relaxed-json", start in b"{[/"), ("xml", start == b"<"),
        ("toml", lined and _TYPED.search(raw)), ("ini", lined), ("yaml", _NAMED.match(raw)),
    ):  # fmt: skip
        if not fits:
            continue
        try:
            (top,) = nodes_in(form, BytesPayload(raw), [""])[0]
        except DamagedError:
            continue
        return f"{form_of(form).title}{_keys(top)}"
    return "plain text"


def _lined(raw: bytes) -> bool:
    """Tell whether every line is a section, a key with a value, or a remark."""
    lines = [line.strip() for line in raw.splitlines() if line.strip()]
    return bool(lines) and all(
        line[:1] in (b"#", b";") or (line[:1] == b"[" and line[-1:] == b"]") or b"=" in line
        for line in lines
    )


def _keys(top: Node) -> str:
    if isinstance(top.inner, list):
        return f", a list of {len(top.inner):,}"
    names = top.names
    more = ", …" if len(names) > _KEYS else ""
    return f" with {', '.join(names[:_KEYS])}{more}" if names else ""
