"""Bytes verified by their own form: a zip by its checksums, a database by SQLite, and so on."""

from __future__ import annotations

import tempfile
import zipfile
import zlib
from collections.abc import Callable, Iterator
from typing import IO, cast

from clever_ferry.certainty import Evidence
from clever_ferry.documents.document import FORMS as DOCUMENTS
from clever_ferry.documents.document import form_of as form_of_name
from clever_ferry.documents.document import values_in
from clever_ferry.documents.form import Form, Rewriting
from clever_ferry.errors import DamagedError, UnsupportedError
from clever_ferry.forms.databases import check_database
from clever_ferry.forms.recognising import COMPRESSED
from clever_ferry.layers.compressed import Compressed
from clever_ferry.layers.found import Found
from clever_ferry.layers.spec import CompressedSpec
from clever_ferry.model import tagged
from clever_ferry.payload import Payload
from clever_ferry.zips import BROKEN, open_zip

__all__ = ["verify"]

_IN_MEMORY = 16 << 20
_ALWAYS, _RATIO = 1 << 30, 256
"""What a zip holds may unpack to 1 GiB and so many times its bytes; more is not looked into."""
_ENCRYPTED = 0x01


def verify(form: Form | str, payload: Payload) -> Evidence:
    """Read a file to its end as a document or one of the `FORMS`; return what that establishes.

    Raises DamagedError where the file is not so, and UnsupportedError where that can't be told.
    """
    if not isinstance(form, str) or form in DOCUMENTS:
        document = form_of_name(form) if isinstance(form, str) else form
        values_in(form, payload, [])
        if isinstance(document, Rewriting) and document.checks:
            return Evidence("verified", ", ".join(document.checks))
        return Evidence("opened", f"read as {document.title}")
    if form in COMPRESSED:
        return _unpacked(form, payload)
    checks: dict[str, Callable[[], Evidence]] = {
        "zip": lambda: _zip(payload),
        "png": lambda: _png(payload),
        "sqlite": lambda: _database(payload),
    }
    return checks[form]()


def _unpacked(form: str, payload: Payload) -> Evidence:
    found = Found()
    inside, _ = Compressed(tagged(CompressedSpec, form)(most=1 << 40)).unwrap(payload, found)
    for _chunk in inside.chunks():
        pass
    return found.evidence[0]()


def _database(payload: Payload) -> Evidence:
    check_database(payload)
    return Evidence("verified", "SQLite's own check")


def _zip(payload: Payload) -> Evidence:
    with tempfile.SpooledTemporaryFile(_IN_MEMORY) as file:
        for chunk in payload.chunks():
            file.write(chunk)
        size = file.tell()
        try:
            with open_zip(cast(IO[bytes], file), "it") as archive:
                members = archive.infolist()
                if any(one.flag_bits & _ENCRYPTED for one in members):
                    raise UnsupportedError("files in it are locked with a password.")
                if sum(one.file_size for one in members) > _ALWAYS + _RATIO * size:  # free: a bound
                    raise UnsupportedError("it would unpack to far more than it is.")
                _read_members(archive)
        except NotImplementedError as error:
            raise UnsupportedError(f"it can't be unpacked here: {error}.") from None
        except BROKEN as error:
            raise DamagedError(f"it is a damaged zip: {str(error).rstrip('.')}.") from None
    return Evidence("verified", f"the zip's checksums of {len(members)} files")


def _read_members(archive: zipfile.ZipFile) -> None:
    for member in archive.infolist():
        with archive.open(member) as file:
            while file.read(1 << 20):
                pass


def _png(payload: Payload) -> Evidence:
    with tempfile.SpooledTemporaryFile(_IN_MEMORY) as file:
        for chunk in payload.chunks():
            file.write(chunk)
        file.seek(8)
        for kind, data, right in _png_chunks(file):
            if zlib.crc32(kind + data) != right:
                raise DamagedError(f"the picture's part {kind!r} does not give its checksum.")
    return Evidence("verified", "the picture's checksums")


def _png_chunks(file: IO[bytes]) -> Iterator[tuple[bytes, bytes, int]]:
    """Yield a PNG's chunks up to its end: kind, data, checksum (PNG specification, 5.3)."""
    kind = b""
    while kind != b"IEND":
        front = file.read(8)
        size = int.from_bytes(front[:4])
        kind, data, check = front[4:], file.read(size), file.read(4)
        if len(front) < 8 or len(data) < size or len(check) < 4:
            raise DamagedError("the picture is cut short.")
        yield kind, data, int.from_bytes(check)
