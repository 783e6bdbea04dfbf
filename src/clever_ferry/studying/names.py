"""Names of files laid over each other: which are of one kind, and what in them differs.

>>> [one.pattern for one in kinds_of_names(["isle1.level", "isle2.level", "settings.ini"])]
['isle{n1}.level', 'settings.ini']
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping, Sequence

from msgspec import Struct

__all__ = ["NameKind", "above", "kinds_of_names"]

_TOKEN = re.compile(
    r"(?P<id>[0-9A-Fa-f]{8}-(?:[0-9A-Fa-f]{4}-){3}[0-9A-Fa-f]{12})"
    r"|(?P<n>(?<![0-9A-Za-z])\d+(?![0-9A-Za-z])|\d+)"
    r"|(?P<w>[A-Za-z]+)|(?P<s>.)",
    re.DOTALL,
)
_LONG = 5
_HEX = re.compile(r"(?<![0-9A-Za-z])(?=[A-Fa-f]*\d)(?=\d*[A-Fa-f])[0-9A-Fa-f]{8,64}(?![0-9A-Za-z])")


class NameKind(Struct, frozen=True):
    """Files whose names differ in the same places."""

    pattern: str
    """The name, with `{n1}` for numbers, `{x1}` for hexadecimal digits, `{id1}` for identifiers,
    `{w1}` for words, `{t1}` for texts."""
    paths: tuple[str, ...]
    fields: Mapping[str, tuple[str, ...]]
    """What stands in each such place, path by path."""


def _tokens(path: str) -> list[tuple[str, str]]:
    """Return a path as parts with their kinds: `id`, `x` (hexadecimal), `n`, `w` (words), `s`."""
    found: list[tuple[str, str]] = []
    at = 0
    for match in _HEX.finditer(path):
        found += _plain(path[at : match.start()])
        found.append(("x", match[0]))
        at = match.end()
    return found + _plain(path[at:])


def _plain(text: str) -> list[tuple[str, str]]:
    return [(str(match.lastgroup), match[0]) for match in _TOKEN.finditer(text)]


def kinds_of_names(paths: Iterable[str]) -> list[NameKind]:
    """Return which paths are of one kind, those with the most files first.

    What differs are numbers, hexadecimal digits and identifiers; words only where at least two
    names are the same but for one of them, and have an ending or lie two folders deep; endings only
    where they stand behind another one, and not every save has all of them.
    """
    shapes: dict[tuple[tuple[str, str], ...], list[str]] = {}
    for path in paths:
        shape = tuple((kind, "" if kind in "nxid" else text) for kind, text in _tokens(path))
        shapes.setdefault(shape, []).append(path)
    _join_digits(shapes)
    groups = _with_words(shapes)
    texts = _with_texts([names[0] for names in groups.values() if len(names) == 1])
    told = {path for kind in texts for path in kind.paths}
    found = [_kind(shape, names) for shape, names in groups.items() if names[0] not in told] + texts
    return sorted(found, key=lambda one: (-len(one.paths), one.pattern))


Shape = tuple[tuple[str, str], ...]
_LONG_DIGITS = 16
"""So many digits are no number that anybody counts."""


def _join_digits(shapes: dict[Shape, list[str]]) -> None:
    """Join names with hexadecimal digits and those that have, there, by chance only numbers."""
    for shape in sorted(shapes, key=lambda one: sum(part == ("n", "") for part in one)):
        at = [number for number, part in enumerate(shape) if part == ("n", "")]
        long = [
            one for one in at
            if all(len(_tokens(path)[one][1]) >= _LONG_DIGITS for path in shapes[shape])
            and len({len(_tokens(path)[one][1]) for path in shapes[shape]}) == 1
        ]  # fmt: skip
        if not long:
            continue
        other = tuple(("x", "") if number in long else part for number, part in enumerate(shape))
        several = all(len({_tokens(path)[one][1] for path in shapes[shape]}) > 1 for one in long)
        if not several and other not in shapes:
            continue  # one long number that all have is an account
        shapes.setdefault(other, []).extend(shapes.pop(shape))


def _with_words(shapes: Mapping[Shape, list[str]]) -> dict[Shape, list[str]]:
    """Join kinds that are the same but for one word of the files' own names."""
    likes: dict[Shape, list[Shape]] = {}
    endings: dict[Shape, int] = {}
    for shape in shapes:
        slash = max((at for at, one in enumerate(shape) if one == ("s", "/")), default=-1)
        dot = max((at for at, one in enumerate(shape) if one == ("s", ".")), default=-1)
        if dot <= slash:
            # Without an ending, only a whole name in a folder of a save's own folder can be a word.
            deep = sum(one == ("s", "/") for one in shape) > 1 and slash == len(shape) - 2
            dot = len(shape) if deep else slash
        twice = sum(one == ("s", ".") for one in shape[slash + 1 :]) > 1
        for at in range(slash + 1, len(shape) if twice else dot):
            if shape[at][0] == "w":
                like = (*shape[:at], ("w", ""), *shape[at + 1 :])
                likes.setdefault(like, []).append(shape)
                if at > dot:
                    endings[like] = at
    found = dict(shapes)
    for like, own in sorted(likes.items(), key=lambda one: -len(one[1])):
        own = [one for one in own if one in found]
        if len(own) > 1 and not (like in endings and _has_all(own, endings[like], found)):
            found[like] = [name for one in own for name in found.pop(one)]
    return found


def _has_all(own: Sequence[Shape], at: int, shapes: Mapping[Shape, list[str]]) -> bool:
    """Tell whether each save has files with all of these endings: they are no names, then."""
    sets = [
        {tuple(text for number, (_, text) in enumerate(_tokens(path)) if number != at)
         for path in shapes[one]}
        for one in own
    ]  # fmt: skip
    return all(one == sets[0] for one in sets)


def _with_texts(singles: Sequence[str]) -> list[NameKind]:
    """Return kinds of which each name is a text of its own: a folder's, or a file's with an ending.

    `singles` are the paths that are like no other.
    """
    likes: dict[tuple[int, str, str], list[tuple[str, str]]] = {}
    for path in singles:
        *folders, file = path.split("/")
        for at, folder in enumerate(folders):
            front = "".join(f"{one}/" for one in folders[:at])
            rest = "".join(f"/{one}" for one in (*folders[at + 1 :], file))
            likes.setdefault((at, front, rest), []).append((path, folder))
        stem, dot, ending = file.rpartition(".")
        if dot and stem:
            front = "".join(f"{one}/" for one in folders)
            likes.setdefault((len(folders), front, f".{ending}"), []).append((path, stem))
    found: list[NameKind] = []
    told: set[str] = set()
    for (_, front, rest), own in sorted(likes.items(), key=lambda one: (one[0][0], -len(one[1]))):
        own = sorted((path, text) for path, text in own if path not in told)
        if len(own) > 1:
            paths, texts = zip(*own, strict=True)
            told.update(paths)
            found.append(NameKind(f"{front}{{t1}}{rest}", paths, {"t1": texts}))
    return found


def _kind(shape: Shape, paths: Sequence[str]) -> NameKind:
    paths = sorted(paths)
    pattern, fields = "", {}
    counts: dict[str, int] = {}
    rows = [_tokens(path) for path in paths]
    for at, (kind, text) in enumerate(shape):
        if text:
            pattern += text
            continue
        values = tuple(row[at][1] for row in rows)
        owns = kind != "n" or len(values[0]) >= _LONG  # whose they are, mostly
        if len(set(values)) == 1 and len(paths) > 1 and not owns:
            pattern += values[0]
            continue
        counts[kind] = counts.get(kind, 0) + 1
        name = f"{kind}{counts[kind]}"
        fields[name] = values
        pattern += f"{{{name}}}"
    return NameKind(pattern, tuple(paths), fields)


def above(folder: str) -> dict[str, str]:
    """Return what in a folder's own path may say whose it is: long numbers, digits, identifiers.

    >>> above("C:/Users/Wren/Saltglass/100200300")
    {'account': '100200300'}
    """
    found: dict[str, str] = {}
    for part in reversed(re.split(r"[/\\]", folder)):
        for kind, text in _tokens(part):
            if kind in ("x", "id") or (kind == "n" and len(text) >= 5):
                name = "account" if not found else f"account{len(found) + 1}"
                found[name] = text
    return found
