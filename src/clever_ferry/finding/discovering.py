"""Harbours that nobody has named: prefixes, mounted disks, other accounts, downloaded exports.

Only places that a recipe names, mount points, the folders of users and the top of those where
downloads are kept are looked at.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from contextlib import suppress
from itertools import chain
from pathlib import Path

from msgspec.structs import replace

from clever_ferry.errors import FerryError
from clever_ferry.finding.computers import Computer
from clever_ferry.finding.grounds import DiskGround
from clever_ferry.finding.harbours import Harbour, harbour_at, prefix_at, users_of, zips_in
from clever_ferry.finding.searching import folders_fitting
from clever_ferry.moving.presence import is_folder
from clever_ferry.moving.system import mounted_disks
from clever_ferry.naming import Pattern
from clever_ferry.recipes import Edition
from clever_ferry.recipes.libraries import Library

__all__ = ["discover", "discover_prefixes", "with_prefixes"]

_LONGEST_LIST = 1 << 20
_QUOTED = re.compile(r'"([^"\r\n]{1,1000})"')
_MOST_PREFIXES = 500


def discover(
    computer: Computer, libraries: Sequence[Library], editions: Sequence[Edition]
) -> list[Harbour]:
    """Return the harbours at hand that are recognised by what they are, each by a name.

    `editions` are those whose exports are looked for.
    """
    others = (_accounts(computer), _disks(computer, libraries), _exports(computer, editions))
    return _by_name(computer, chain(_apps_first(computer, libraries), *others))


def discover_prefixes(computer: Computer, libraries: Sequence[Library]) -> list[Harbour]:
    """Return the compatibility prefixes at hand alone, by the names that `discover` gives them."""
    return _by_name(computer, _apps_first(computer, libraries))


def _by_name(computer: Computer, candidates: Iterable[tuple[str, Harbour | None]]) -> list[Harbour]:
    """Give each place one name, and each name to one place."""
    found: dict[str, Harbour] = {}
    places: set[Path] = set()
    for wanted, harbour in candidates:
        if harbour is None or not harbour.computers or harbour.path in places:
            continue
        name, number = wanted, 1
        while name in found or name == computer.name:
            number += 1
            name = f"{wanted}-{number}"
        places.add(harbour.path)
        found[name] = harbour.renamed(name)
    return list(found.values())


def with_prefixes(harbour: Harbour, libraries: Sequence[Library]) -> Harbour:
    """Return a disk or described computer together with the prefixes on it."""
    inner = [
        replace(one, name=harbour.name)
        for computer in harbour.computers
        for _, prefix in _prefixes(computer, libraries)
        if prefix is not None
        for one in prefix.computers
    ]
    return replace(harbour, computers=(*harbour.computers, *inner))


def _plain(text: str) -> str:
    """Return a name that can stand in an address."""
    name = re.sub(r"[^a-z0-9]+", "-", text.lower()).strip("-")[:32]
    return name if name[:1].isalpha() else f"disk-{name}".rstrip("-")


def _apps_first(
    computer: Computer, libraries: Sequence[Library]
) -> list[tuple[str, Harbour | None]]:
    found = _prefixes(computer, libraries)
    return sorted(found, key=lambda one: one[1] is None or not one[1].app)


def _prefixes(
    computer: Computer, libraries: Sequence[Library]
) -> Iterator[tuple[str, Harbour | None]]:
    for library in libraries:
        listed = list(_listed(computer, library))
        for spot in library.prefixes:
            if spot.info.on != computer.system:
                continue
            known = computer.disks.get(spot.info.under)
            bases = listed if spot.info.under == "listed" else [known] if known else []
            for base in bases:
                fitting = folders_fitting(
                    DiskGround(base, computer.fold, shore=computer.shore), spot.pattern.segments
                )
                for path, fields in fitting[:_MOST_PREFIXES]:
                    told = "-".join(str(value) for value in fields.values())
                    name = _plain(f"{library.id}-{told}" if told else library.id)
                    folder = base.joinpath(*path.split("/"))
                    app = str(fields["app"]) if "app" in fields else None
                    yield name, prefix_at(folder, name, app=app)


def _listed(computer: Computer, library: Library) -> Iterator[Path]:
    """Yield the folders that a library has written down: every quoted path in its lists."""
    for spot in library.lists:
        base = computer.disks.get(spot.info.under)
        if base is None or spot.info.on != computer.system:
            continue
        above = DiskGround(base, computer.fold, shore=computer.shore)
        segments = spot.pattern.segments
        for path, _ in folders_fitting(above, segments[:-1]):
            file = above.place(path) / segments[-1].text
            with suppress(OSError):
                text = above.shore.front(file, _LONGEST_LIST)[0].decode("utf-8", "replace")
                for quoted in _QUOTED.findall(text):
                    if "/" in quoted or "\\" in quoted:
                        folder = computer.located(quoted.replace("\\\\", "\\"))
                        if folder.is_absolute() and is_folder(folder):
                            yield folder


def _accounts(computer: Computer) -> Iterator[tuple[str, Harbour | None]]:
    """Yield the other accounts of the computer, as far as they can be read."""
    if computer.accounts is not None:
        for name, folders in computer.accounts.items():
            own = Computer(name, computer.system, folders, running=(), top=computer.top)
            yield name, _account(name, next(iter(folders.values())), own)
        return
    home = computer.disks["home"]
    for own in users_of(Path(home.anchor), computer.system, "")[0]:
        with suppress(OSError):
            if not own.disks["home"].samefile(home):
                name = own.disks["home"].name
                yield _plain(name), _account(name, own.disks["home"], replace(own, foreign=False))


def _account(user: str, path: Path, own: Computer) -> Harbour:
    return Harbour(user, (path,), "account of this computer", (own,), (user,))


def _disks(
    computer: Computer, libraries: Sequence[Library]
) -> Iterator[tuple[str, Harbour | None]]:
    """Yield the mounted disks with another system on them, and described computers."""
    mounts: Iterable[Path] = computer.mounts if computer.mounts is not None else mounted_disks()
    for mount in mounts:
        name = _plain(mount.name or mount.drive)
        with suppress(FerryError, OSError):
            harbour = harbour_at(mount, name)
            if harbour.kind in ("mounted disk", "described computer", "export archive"):
                yield name, with_prefixes(harbour, libraries)


_DOWNLOADED = ("downloads", "documents", "home")
_MOST_INNER = 500


def _exports(
    computer: Computer, editions: Sequence[Edition]
) -> Iterator[tuple[str, Harbour | None]]:
    """Yield the exports in the folders where downloads are kept, and in folders right in those.

    Their zips are told by the names that the recipes of `editions` give.
    """
    named: dict[str, list[Pattern]] = {}  # a service has one name for all its games
    for edition in editions:
        names = named.setdefault(edition.id, [])
        names += (name for berth in edition.berths for name in berth.archives)
    folders: dict[Path, None] = {}
    for base in (computer.disks.get(one) for one in _DOWNLOADED if named):
        if base is not None:
            inner = DiskGround(base, computer.fold, shore=computer.shore).folders("")[:_MOST_INNER]
            folders.update(dict.fromkeys((base, *(base / one for one in inner))))
    for folder in folders:
        zips = zips_in(folder)
        for ident, patterns in named.items():
            own = [
                file
                for file in zips
                if any(pattern.match(file.name, fold=True) is not None for pattern in patterns)
            ]
            for one in _sets(own):
                with suppress(FerryError, OSError):
                    yield _plain(ident), harbour_at(folder if one == zips else one, ident)


def _sets(zips: Sequence[Path]) -> Iterable[Sequence[Path]]:
    if not zips:
        return ()
    from clever_ferry.moving.archives import archive_sets  # most computers have none

    return archive_sets(zips)
