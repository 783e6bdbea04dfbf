"""What bytes seem to be, told from their beginning alone."""

from __future__ import annotations

import re
import zlib

from clever_ferry.documents.document import FORMS as DOCUMENTS

__all__ = ["ANY", "COMPRESSED", "FORMS", "document_of", "form_of", "recognise"]

_MAGICS: tuple[tuple[int, bytes, str], ...] = (
    (0, b"\x1f\x8b\x08", "gzip"),
    (0, b"\xfd7zXZ\x00", "xz"),
    (0, b"BZh", "bzip2"),
    (0, b"\x28\xb5\x2f\xfd", "zstd"),
    (0, b"\x04\x22\x4d\x18", "lz4"),
    (0, b"PK\x03\x04", "zip"),
    (0, b"PK\x05\x06", "zip"),
    (0, b"SQLite format 3\x00", "sqlite"),
    (257, b"ustar", "tar"),
    (0, b"\x89PNG\r\n\x1a\n", "picture"),
    (0, b"\xff\xd8\xff", "picture"),
    (0, b"GIF8", "picture"),
    (0, b"DDS ", "picture"),
    (8, b"WEBP", "picture"),
    (0, b"7z\xbc\xaf\x27\x1c", "archive"),
    (0, b"Rar!\x1a\x07", "archive"),
)
ANY = "any"
"""What a piece `holds` that is the document that it shows to be."""
_HEAD = 4096
"""Bytes of what is looked at, where there are more."""
COMPRESSED = frozenset({"gzip", "xz", "bzip2", "zstd", "lz4", "zlib"})
FORMS = (*DOCUMENTS, "zip", "png", "sqlite", *sorted(COMPRESSED))
"""The forms that can be verified, or at least opened, to their end."""


def recognise(head: bytes) -> str:
    """Return `gzip`, `zip`, `text` and the like, or `unknown`; `head` is the first 4 KiB.

    >>> recognise(b"\\x1f\\x8b\\x08...."), recognise(b"day = 31\\n"), recognise(b"\\0\\1\\2")
    ('gzip', 'text', 'unknown')
    """
    for at, magic, kind in _MAGICS:
        if head[at : at + len(magic)] == magic:
            return kind
    if _is_zlib(head):
        return "zlib"
    return "text" if head and _is_text(head) else "unknown"


def _is_zlib(head: bytes) -> bool:
    if len(head) < 8 or head[0] & 0x8F != 8 or int.from_bytes(head[:2]) % 31:
        return False
    try:
        return len(zlib.decompressobj().decompress(head, 1 << 16)) > 0
    except zlib.error:
        return False


def _is_text(head: bytes) -> bool:
    for encoding in ("utf-8", "utf-16"):
        if encoding == "utf-16" and head[:2] not in (b"\xff\xfe", b"\xfe\xff"):
            continue
        try:
            text = head.decode(encoding)
        except UnicodeDecodeError as error:
            if len(head) < _HEAD or error.start < len(head) - 4:
                continue
            text = head[: error.start].decode(encoding)  # a character is cut at the end
        if all(char.isprintable() or char in "\r\n\t\ufeff" for char in text):
            return True
    return False


def form_of(start: bytes) -> str:
    """Tell by its first 4 KiB which of the `FORMS` a file seems to have; '' for none.

    >>> form_of(b'{"day": 31}'), form_of(b"[sound]\\nloud = 7\\n"), form_of(b"\\0\\1\\2")
    ('json', '', '')
    """
    kind = recognise(start)
    if kind == "picture":
        return "png" if start.startswith(b"\x89PNG") else ""
    if kind == "text":
        text = start.removeprefix(b"\xef\xbb\xbf").lstrip()
        if text.startswith(b"{") and text[1:].lstrip()[:1] in (b'"', b"}"):
            return "json"
        return "xml" if text.startswith(b"<?xml") else ""
    return kind if kind in FORMS else ""


def document_of(start: bytes) -> str:
    """Tell by its first 4 KiB which form of document a file has; '' where that does not show.

    >>> document_of(b"[sound]\\nloud = 7\\n"), document_of(b"<save/>"), document_of(b"[1, 2]")
    ('ini', 'xml', 'json')
    >>> document_of(b"// mine\\n{}"), document_of(b"--- # one\\n"), document_of(b"a=b\\n")
    ('relaxed-json', 'yaml', 'properties')
    """
    if (kind := recognise(start)) != "text":
        return kind if kind == "sqlite" else ""
    text = start.removeprefix(b"\xef\xbb\xbf").lstrip()
    return next((form for sign, form in _BEGINNINGS if sign.match(text)), "")


_BEGINNINGS = tuple(
    (re.compile(sign), form)
    for sign, form in (
        (rb"<[?!A-Za-z_]", "xml"),
        (rb"---(\s|\Z)", "yaml"),
        (rb"([;#][^\n]*\n\s*)*\[[^\]\n\"{]*\][ \t\r]*\n\s*[^\s\]},]", "ini"),
        (rb"\{|\[", "json"),
        (rb"//|/\*", "relaxed-json"),
        (rb"([;#!][^\n]*\n\s*)*[\w.-]+[ \t]*[=:]", "properties"),
    )
)
"""How documents begin; the first that fits counts."""
