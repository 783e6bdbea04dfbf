"""What works at a server, found out by trying it in a folder of its own that goes again."""

from __future__ import annotations

import hashlib
import os
import time
from collections.abc import Callable
from contextlib import suppress
from pathlib import PurePath

from msgspec import Struct

from clever_ferry.errors import FerryError
from clever_ferry.links.shore import LinkShore
from clever_ferry.links.wire import Wire

__all__ = ["Probed", "probe"]

_WHEN = 1_234_567_891_234_567_891
"""A time stamp in 2009 (ns), to the nanosecond."""
_NAMES = ("a b", "ü", "a:b", "a?b", "a'b", "a ", "aux", "#a%20b", "x" * 200)
_CLOCK = 90 * 10**9
"""A clock that is off by more than this, in ns, is worth a word."""


class Probed(Struct, frozen=True):
    """One thing that was tried."""

    what: str
    works: bool
    told: str = ""
    """How it works, or why it does not."""
    follows: str = ""
    """What that means for a crossing, where it means anything."""


def probe(shore: LinkShore, folder: PurePath) -> list[Probed]:
    """Try what crossings need in a folder on a server; what was made for that is removed.

    Raises FerryError where the server can't be reached.
    """
    found = [_listed(shore, folder)]
    place = folder / f".cferry-probe-{os.urandom(4).hex()}"
    try:
        shore.make_folder(place, new=True)
    except ConnectionError:
        raise
    except OSError as error:
        return [*found, Probed("write", False, _why(error), "saves there can be read alone")]
    try:
        found.append(Probed("write", True))
        for what, attempt in _ATTEMPTS.items():
            try:
                found.append(attempt(shore, place / what.replace(" ", "-")))
            except ConnectionError:
                raise
            except (OSError, FerryError) as error:
                found.append(Probed(what, False, _why(error)))
    finally:
        with suppress(OSError, FerryError):
            _remove(shore, place)
    return found


def _why(error: BaseException) -> str:
    return str(getattr(error, "strerror", None) or getattr(error, "what", None) or error)


def _listed(shore: LinkShore, folder: PurePath) -> Probed:
    shore.forget()
    began = time.monotonic()
    try:
        count = len(shore.names(folder))
    except ConnectionError:
        raise
    except OSError as error:
        return Probed("list", False, _why(error), "nothing can be found there")
    took = (time.monotonic() - began) * 1000
    told = f"{count:,} names in {took:,.0f} ms"
    if not shore.abilities.lists_exactly:
        return Probed(
            "list", True, f"{told}, as a text that is made for people",
            "names that such a text can't tell, and times, may be read wrongly",
        )  # fmt: skip
    return Probed("list", True, told)


def _put(shore: LinkShore, path: PurePath, data: bytes) -> None:
    with shore.create(path) as out:
        out.write(data)
        out.finish(_WHEN)


def _got(shore: LinkShore, path: PurePath) -> bytes:
    return shore.front(path, 1 << 20)[0]


def _read(shore: LinkShore, place: PurePath) -> Probed:
    data = os.urandom(200_000)
    _put(shore, place, data)
    same = hashlib.sha256(_got(shore, place)).digest() == hashlib.sha256(data).digest()
    if not same:
        return Probed("read back", False, "what comes back is not what was sent",
                      "nothing can be carried there: is it in a text mode?")  # fmt: skip
    return Probed("read back", True, "byte for byte")


def _reckoned(shore: LinkShore, place: PurePath) -> Probed:
    data = os.urandom(70_000)
    _put(shore, place, data)
    found = shore.reckoned(place)
    if found is None:
        follows = "what is carried there is read back, or only its size compared (--quick)"
        return Probed("reckon digests", False, "", follows)
    if hashlib.new(found.kind, data, usedforsecurity=False).hexdigest() != found.digest:
        return Probed("reckon digests", False, f"its {found.kind} is not the file's",
                      "all that is carried there is read back")  # fmt: skip
    return Probed("reckon digests", True, f"by {found.kind}", "nothing need be read back")


def _renamed(shore: LinkShore, place: PurePath) -> Probed:
    other = place.with_name("other")
    _put(shore, place, b"new")
    _put(shore, other, b"old")
    try:
        shore.pool.do(lambda wire: wire.rename(shore.real(place), shore.real(other)))
    except ConnectionError:
        raise
    except OSError as error:
        shore.abilities = shore.abilities._replace(replaces=False)
        return Probed("rename over a file", False, _why(error),
                      "when a file is replaced, it is gone for a moment")  # fmt: skip
    shore.forget()
    if _got(shore, other) != b"new" or "other" not in shore.names(place.parent):
        return Probed("rename over a file", False, "the old file stands", "nothing can be replaced")
    return Probed("rename over a file", True, "in one step")


def _moved(shore: LinkShore, place: PurePath) -> Probed:
    shore.make_folder(place, new=True)
    shore.rename(place, place.with_name("moved"))
    return Probed("rename a folder", shore.kind(place.with_name("moved")) == "folder")


def _timed(shore: LinkShore, place: PurePath) -> Probed:
    _put(shore, place, b"x")
    shore.forget()
    node = shore.node(place)
    stamp = node.stamp if node is not None else 0
    if not shore.abilities.sets_times or abs(stamp - _WHEN) > 2 * 10**9:
        return Probed("set a file's time", False, "it has the time at which it was sent",
                      "what is carried there looks as if it was saved just then")  # fmt: skip
    exact = "to the second" if stamp % 10**9 == 0 else "to the nanosecond"
    return Probed("set a file's time", True, exact)


def _clock(shore: LinkShore, place: PurePath) -> Probed:
    shore.make_folder(place, new=True)
    shore.forget()
    node = shore.node(place)
    if node is None or not node.stamp:
        return Probed("clock", False, "it does not say what time it has")
    off = node.stamp - time.time_ns()
    if abs(off) < _CLOCK:
        return Probed("clock", True, "as here")
    way = "ahead of" if off > 0 else "behind"
    return Probed("clock", True, f"{abs(off) // (60 * 10**9):,} min {way} this computer's",
                  "its times of saves are shown as it says them")  # fmt: skip


def _roomy(shore: LinkShore, place: PurePath) -> Probed:
    free = shore.free_bytes(place.parent)
    if free is None:
        return Probed("free space", False, "it does not say",
                      "a full disk is found out on the way, and all is put back")  # fmt: skip
    return Probed("free space", True, f"{free:,} bytes")


def _cased(shore: LinkShore, place: PurePath) -> Probed:
    _put(shore, place, b"x")
    shore.forget()
    other = place.with_name(place.name.upper())
    entry = shore.pool.do(lambda wire: wire.entry(shore.real(other)))
    if entry is not None:
        return Probed("tell upper from lower case", False, "both are one name")
    return Probed("tell upper from lower case", True)


def _named(shore: LinkShore, place: PurePath) -> Probed:
    shore.make_folder(place, new=True)
    bad = []
    for name in _NAMES:
        try:
            _put(shore, place / name, b"x")
            shore.forget()
            if name not in shore.names(place):
                bad.append(name)
        except ConnectionError:
            raise
        except OSError:
            bad.append(name)
    if bad:
        told = ", ".join(
            repr(name if len(name) < 20 else f"{name[:3]}… ({len(name)})") for name in bad
        )
        return Probed("take all names", False, f"not {told}")
    return Probed("take all names", True)


def _resumed(shore: LinkShore, place: PurePath) -> Probed:
    if not shore.abilities.resumes:
        return Probed("go on with a file", False, "",
                      "where the link breaks, a file is sent from its beginning")  # fmt: skip
    real = shore.real(place)
    _put(shore, place, b"12345")

    def go_on(wire: Wire) -> None:
        sink = wire.writer(real, 5)
        sink.write(b"678")
        sink.close()

    shore.pool.do(go_on)
    shore.forget()
    return Probed("go on with a file", _got(shore, place) == b"12345678")


def _alone(shore: LinkShore, place: PurePath) -> Probed:
    shore.make_folder(place, new=True)
    try:
        shore.make_folder(place, new=True)
    except FileExistsError:
        return Probed("keep other computers out", True, "by a folder that only one can make")
    return Probed("keep other computers out", False, "two can make one folder",
                  "see to it that no other cferry works there")  # fmt: skip


_ATTEMPTS: dict[str, Callable[[LinkShore, PurePath], Probed]] = {
    "read back": _read,
    "reckon digests": _reckoned,
    "rename over a file": _renamed,
    "rename a folder": _moved,
    "set a file's time": _timed,
    "clock": _clock,
    "free space": _roomy,
    "tell upper from lower case": _cased,
    "take all names": _named,
    "go on with a file": _resumed,
    "keep other computers out": _alone,
}


def _remove(shore: LinkShore, place: PurePath) -> None:
    shore.forget()
    for name in shore.names(place):
        if shore.kind(place / name, follow=False) == "folder":
            _remove(shore, place / name)
        else:
            shore.unlink(place / name)
    shore.remove_folder(place)
