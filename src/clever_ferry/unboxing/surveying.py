"""What a folder seems to hold, where no recipe tells: kinds, sets that belong together, series."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, NamedTuple

from clever_ferry.errors import FerryError
from clever_ferry.forms.recognising import COMPRESSED, recognise
from clever_ferry.payload import head

if TYPE_CHECKING:
    from clever_ferry.tree import FileInfo, Files

__all__ = ["Kind", "Series", "Sets", "Survey", "survey"]

_MOST_FILES, _MOST_READ = 50_000, 2_000
_NUMBER = re.compile(r"\d+")
_WORDS = {
    "text": "text", "picture": "picture", "sqlite": "database", "zip": "archive", "tar": "archive",
    "archive": "archive", "unknown": "unknown binary", "": "empty",
}  # fmt: skip


class Kind(NamedTuple):
    """Files of one kind."""

    title: str
    files: int
    size: int
    example: str


class Sets(NamedTuple):
    """Files that share a stem and differ in their endings, over and over: they belong together."""

    endings: tuple[str, ...]
    stems: tuple[str, ...]


class Series(NamedTuple):
    """Files that are named alike but for a number."""

    pattern: str
    """The name, with `#` for the number."""
    numbers: tuple[int, ...]

    @property
    def gaps(self) -> tuple[int, ...]:
        """Numbers that the series leaves out."""
        every = range(self.numbers[0], self.numbers[-1] + 1)
        there = set(self.numbers)
        return tuple(number for number in every if number not in there)[:50]


@dataclass
class Survey:
    """What is in a folder."""

    count: int = 0
    size: int = 0
    deepest: int = 0
    newest: FileInfo | None = None
    kinds: list[Kind] = field(default_factory=list)
    sets: list[Sets] = field(default_factory=list)
    series: list[Series] = field(default_factory=list)
    troubles: list[str] = field(default_factory=list)


def survey(files: Files) -> Survey:
    """Look through a folder: at most 50,000 files are counted, and 2,000 are looked into."""
    found = Survey()
    every: list[FileInfo] = []
    try:
        for info in files.walk(lambda _: True):
            if len(every) == _MOST_FILES:
                found.troubles.append(f"only the first {_MOST_FILES:,} files were looked at")
                break
            every.append(info)
    except (FerryError, OSError) as error:
        found.troubles.append(getattr(error, "what", str(error)))
    found.count, found.size = len(every), sum(info.size for info in every)
    found.deepest = max((info.path.count("/") for info in every), default=0)
    found.newest = max(every, key=lambda info: info.stamp, default=None)
    found.kinds = _kinds(files, every, found.troubles)
    found.sets = _sets(every)
    found.series = _series(every)
    return found


def _kinds(files: Files, every: list[FileInfo], troubles: list[str]) -> list[Kind]:
    kinds: dict[str, Kind] = {}
    for number, info in enumerate(every):
        title = "not looked into"
        if number < _MOST_READ:
            try:
                title = _title(head(files.payload(info.path), 4096))
            except (FerryError, OSError) as error:
                title = "can't be read"
                troubles.append(f"{info.path}: {getattr(error, 'what', str(error))}")
        known = kinds.get(title, Kind(title, 0, 0, info.path))
        kinds[title] = known._replace(files=known.files + 1, size=known.size + info.size)
    return sorted(kinds.values(), key=lambda kind: -kind.size)


def _title(start: bytes) -> str:
    kind = recognise(start) if start else ""
    return f"compressed ({kind})" if kind in COMPRESSED else _WORDS[kind]


def _split(path: str) -> tuple[str, str]:
    """Return a path up to its name's first dot, and the ending from there."""
    above, slash, name = path.rpartition("/")
    stem, dot, ending = name.partition(".") if not name.startswith(".") else (name, "", "")
    return f"{above}{slash}{stem}", f"{dot}{ending}"


def _sets(every: Iterable[FileInfo]) -> list[Sets]:
    stems: dict[str, list[str]] = {}
    for info in every:
        stem, ending = _split(info.path)
        stems.setdefault(stem, []).append(ending)
    shared: dict[tuple[str, ...], list[str]] = {}
    for stem, endings in stems.items():
        if len(endings) > 1:
            shared.setdefault(tuple(sorted(endings)), []).append(stem)
    found = [Sets(endings, tuple(sorted(names))) for endings, names in shared.items()]
    return sorted(found, key=lambda one: -len(one.stems))


def _series(every: Iterable[FileInfo]) -> list[Series]:
    """Find names that differ in one number; of several numbers, the last that differs counts."""
    likes: dict[str, set[int]] = {}
    for info in every:
        above, slash, name = info.path.rpartition("/")
        for match in _NUMBER.finditer(name):
            if len(match[0]) <= 9:
                pattern = f"{above}{slash}{name[: match.start()]}#{name[match.end() :]}"
                likes.setdefault(pattern, set()).add(int(match[0]))
    found = [
        Series(pattern, tuple(sorted(numbers)))
        for pattern, numbers in likes.items()
        if len(numbers) > 2
    ]
    return sorted(found, key=lambda one: (-len(one.numbers), one.pattern))
