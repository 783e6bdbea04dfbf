"""A study: what files that no recipe knows are, how they are wrapped, and what stands in them."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from functools import partial
from itertools import islice
from pathlib import Path

from msgspec import Struct
from msgspec.structs import replace

from clever_ferry.cargo import new_digest
from clever_ferry.errors import FerryError, NotFoundError
from clever_ferry.forms.recognising import recognise
from clever_ferry.moving.files import FolderFiles
from clever_ferry.payload import head
from clever_ferry.studying.budget import MOST_HELD, Budget, OverError
from clever_ferry.studying.guess import Guess, Place
from clever_ferry.studying.heads import guess_front
from clever_ferry.studying.leaves import leaves_of, text_form
from clever_ferry.studying.looks import Block, blocks, density_of, what_they_are
from clever_ferry.studying.names import NameKind, above, kinds_of_names
from clever_ferry.studying.peeling import Hint, Peeled, Step, peel
from clever_ferry.studying.streams import Stream, streams_in
from clever_ferry.studying.values import Found, Wanted, find_value, wanted
from clever_ferry.tree import FileInfo, Files

__all__ = [
    "Alike",
    "KindStudied",
    "Known",
    "Sample",
    "StageStudied",
    "Study",
    "ValueFound",
    "study",
    "study_files",
]

_MOST_FILES, _MOST_KINDS, _SAMPLES, _MOST_APART, _MOST_BESIDE = 200_000, 40, 8, 64, 2_000
_MOST_TOGETHER = 160 << 20
"""Bytes of all files of a kind that are held at a time."""
_FRONT = 64
"""Bytes of what is not packed that are looked at as a front."""
_DENSE, _JUDGED = 7.6, 2048
"""Bits a byte from which on bytes look encrypted or packed, and how many it takes to say so."""


class Known(Struct, frozen=True):
    """A value that the player knows of one file or of all: `file` is a part of its path, or ''."""

    name: str
    shown: str
    file: str = ""


class Sample(Struct, frozen=True):
    """A file that was looked at."""

    path: str
    size: int
    stamp: int
    cut: bool
    """Whether it is longer than what is looked at."""


class StageStudied(Struct, frozen=True):
    """One stage of files of one kind: as they lie, and what comes out of each wrapping."""

    sizes: tuple[int, ...]
    what: str
    """What the bytes are: `text`, `json`, `zip`, a kind of packing, `bytes`."""
    density: float
    """Bits of information in a byte (entropy), of the first file."""
    front: tuple[Guess, ...] = ()
    """What stands before packed bytes; of bytes that are not packed, their first ones."""
    back: tuple[Guess, ...] = ()
    """What stands behind them."""
    step: Step | None = None
    """What comes off next."""
    within: tuple[Stream, ...] = ()
    """Packed streams somewhere in the first file, which are not all of it."""
    begins: bytes = b""
    blocks: tuple[Block, ...] = ()
    """Its first file in up to 256 parts of one size."""

    @property
    def looks_locked(self) -> bool:
        """Whether the bytes look encrypted, or packed in a way that is not known here."""
        plain = self.step is None and self.what == "bytes" and not self.within
        return plain and self.density >= _DENSE and max(self.sizes, default=0) >= _JUDGED


class ValueFound(Struct, frozen=True):
    """Where a value that the player knows stands, and in which stage; the likeliest ways first."""

    name: str
    shown: tuple[str, ...]
    stage: int
    ways: tuple[Found, ...]


class KindStudied(Struct, frozen=True):
    """Files of one kind."""

    names: NameKind
    samples: tuple[Sample, ...]
    """Those that were looked at."""
    stages: tuple[StageStudied, ...]
    values: tuple[ValueFound, ...] = ()
    missing: tuple[str, ...] = ()
    """Values that the player knows and that stand nowhere in these files."""
    digests: tuple[str, ...] = ()
    """Of each file's innermost bytes."""
    inside: tuple[tuple[bytes, ...], ...] = ()
    """The files' bytes at each stage, where they are kept."""


class Alike(Struct, frozen=True):
    """Two files of different kinds that hold the same bytes once what is around them is off."""

    first: str
    second: str
    size: int


@dataclass
class Study:
    """What was found."""

    kinds: list[KindStudied] = field(default_factory=list)
    alike: list[Alike] = field(default_factory=list)
    count: int = 0
    """Files that there are."""
    notes: list[str] = field(default_factory=list)
    stopped: str = ""
    """What was looked for as the time was up."""


def study(
    paths: Sequence[Path],
    known: Sequence[Known],
    budget: Budget,
    *,
    keeps: bool = False,
    hints: Mapping[str, Hint] | None = None,
) -> Study:
    """Look at files, and at what is in folders; nothing is written. Bytes are kept if `keeps`.

    `hints` are what is known already, by the patterns of names.

    What is known as the time is up, or the user stops it, is what is returned. Raises NotFoundError
    where there is nothing to look at.
    """
    return _studied(partial(_gathered, paths), known, budget, hints or {}, keeps=keeps)


def study_files(
    files: Files, place: str, known: Sequence[Known], budget: Budget, *, hints: Mapping[str, Hint]
) -> Study:
    """Look at all files of a folder, or of a box, as `study` does; their bytes are kept.

    `place` is the folder's path, in which it may stand whose they are.
    """

    def gathered(found: Study) -> Iterable[Gathered]:
        infos = {info.path: info for info in islice(files.walk(lambda _: True), _MOST_FILES)}
        found.count = len(infos)
        yield files, place, infos, kinds_of_names(infos)

    return _studied(gathered, known, budget, hints, keeps=True)


Gathered = tuple[Files, str, dict[str, FileInfo], list[NameKind]]
"""Files, the path of their folder, which there are, and of which kinds."""


def _studied(
    gathered: Callable[[Study], Iterable[Gathered]], known: Sequence[Known], budget: Budget,
    hints: Mapping[str, Hint], *, keeps: bool,
) -> Study:  # fmt: skip
    found = Study()
    try:
        for files, place, infos, names in gathered(found):
            for named in names[:_MOST_KINDS]:
                budget.begin(named.pattern)
                for kind in _by_content(files, named):
                    hint = hints.get(kind.pattern)
                    one = _kind(files, place, kind, infos, known, budget, hint)
                    found.kinds.append(one if keeps else replace(one, inside=()))
            if len(names) > _MOST_KINDS:
                found.notes.append(
                    f"only {_MOST_KINDS} of {len(names):,} kinds of files were looked at; name a "
                    "folder further in, or files"
                )
    except OverError:
        found.stopped = budget.stopped_at
    except KeyboardInterrupt:
        found.stopped = "as you said"
    found.alike = _alike(found.kinds)
    if not found.count:
        raise NotFoundError("There is no file to look at.")
    return found


def _gathered(paths: Sequence[Path], found: Study) -> Iterable[Gathered]:
    """Yield folders with their files, by kinds; files that are named are of their folder."""
    named: list[Path] = []
    for path in paths:
        if not path.is_dir():
            named.append(path.absolute())
            continue
        infos: dict[str, FileInfo] = {}
        files = FolderFiles(path)
        try:
            for info in files.walk(lambda _: True):
                if len(infos) >= _MOST_FILES:
                    found.notes.append(f"only the first {_MOST_FILES:,} files were counted")
                    break
                infos[info.path] = info
        except (FerryError, OSError) as error:
            found.notes.append(getattr(error, "what", str(error)))
        found.count += len(infos)
        yield files, files.text, infos, kinds_of_names(infos)
    for drive in sorted({one.anchor for one in named}):
        own = [one for one in named if one.anchor == drive]
        top = Path(os.path.commonpath([one.parent for one in own]))
        files = FolderFiles(top)
        infos = {}
        for one in own:
            inner = one.relative_to(top).as_posix()
            known = files.info(inner)
            if known is None:
                raise NotFoundError(f"There is no plain file {one}.")
            infos[inner] = known
        found.count += len(infos)
        # Whoever names files means them to be of one kind, unless their endings differ.
        yield files, files.text, infos, _as_meant(infos)


def _as_meant(infos: Mapping[str, FileInfo]) -> list[NameKind]:
    kinds = kinds_of_names(infos)
    endings: dict[str, list[str]] = {}
    for name in infos:
        endings.setdefault(Path(name).suffix.lower(), []).append(name)
    if len(endings) == len(kinds):
        return kinds
    return [
        NameKind(f"…{ending}" if ending else names[0], tuple(names), {})
        for ending, names in endings.items()
    ]


def _kind(
    files: Files, where: str, names: NameKind, infos: Mapping[str, FileInfo],
    known: Sequence[Known], budget: Budget, hint: Hint | None,
) -> KindStudied:  # fmt: skip
    chosen = _chosen(names.paths, infos)
    most = min(MOST_HELD, _MOST_TOGETHER // max(1, len(chosen)))
    samples: list[Sample] = []
    raws: list[bytes] = []
    for path in chosen:
        info = infos[path]
        try:
            raws.append(head(files.payload(path), most))
        except (FerryError, OSError):
            continue
        samples.append(Sample(path, info.size, info.stamp, info.size > most))
    peeled = (
        peel(raws, budget, hint)
        if not any(one.cut for one in samples)
        else [Peeled(tuple(raws), None)]
    )
    place = _place(where, names, samples, infos)
    stages = tuple(_stage(peeled, at, place, samples, budget) for at in range(len(peeled)))
    values, missing = _values(peeled, samples, known, budget)
    digests = tuple(_digest(one) for one in peeled[-1].samples)
    inside = tuple(one.samples for one in peeled)
    return KindStudied(names, tuple(samples), stages, values, missing, digests, inside)


def _by_content(files: Files, names: NameKind) -> list[NameKind]:
    """Return files of like names apart, where some are texts and others are not, and so on."""
    kinds: dict[str, list[int]] = {}
    for at, path in enumerate(names.paths[:_MOST_APART]):
        try:
            kinds.setdefault(recognise(head(files.payload(path), 4096)), []).append(at)
        except (FerryError, OSError):
            continue
    if len(kinds) < 2 or len(names.paths) > _MOST_APART:
        return [names]
    return [
        NameKind(
            f"{names.pattern} ({'bytes' if kind == 'unknown' else kind})",
            tuple(names.paths[at] for at in own),
            {name: tuple(values[at] for at in own) for name, values in names.fields.items()},
        )
        for kind, own in kinds.items()
    ]  # fmt: skip


def _digest(data: bytes) -> str:
    running = new_digest()
    running.update(data)
    return running.hexdigest()


def _chosen(paths: Sequence[str], infos: Mapping[str, FileInfo]) -> list[str]:
    """Return which files of a kind are looked at: of different sizes, and the newest of them."""
    newest = sorted(paths, key=lambda path: (-infos[path].stamp, path))
    sizes: dict[int, str] = {}
    for path in newest:
        if infos[path].size:
            sizes.setdefault(infos[path].size, path)
    chosen = list(sizes.values())[:_SAMPLES]
    chosen += [path for path in newest if path not in set(chosen)][: max(0, _SAMPLES - len(chosen))]
    return sorted(one for one in chosen if infos[one].size) or sorted(chosen)


def _place(
    where: str, names: NameKind, samples: Sequence[Sample], infos: Mapping[str, FileInfo]
) -> Place:
    at = {path: number for number, path in enumerate(names.paths)}
    own = [at[one.path] for one in samples]
    texts = {name: tuple(values[one] for one in own) for name, values in names.fields.items()}
    texts |= {name: (text,) * len(own) for name, text in above(where).items()}
    numbers = {
        name: tuple(map(int, values))
        for name, values in texts.items()
        if all(one.isascii() and one.isdecimal() and len(one) < 19 for one in values)
    }
    others = set(infos).difference(names.paths) if len(infos) <= _MOST_BESIDE else set()
    beside = {infos[path].size: path for path in sorted(others)}
    return Place({}, numbers, texts, beside, tuple(one.stamp for one in samples))


def _stage(
    peeled: Sequence[Peeled], at: int, place: Place, samples: Sequence[Sample], budget: Budget
) -> StageStudied:
    stage = peeled[at]
    sizes = tuple(map(len, stage.samples))
    if at == 0:
        sizes = tuple(one.size for one in samples)
    first = stage.samples[0] if stage.samples else b""
    what = what_they_are(stage.samples)
    density = density_of(first)
    step = stage.step
    front: Sequence[Guess] = ()
    back: Sequence[Guess] = ()
    within: tuple[Stream, ...] = ()
    budget.begin("what stands in front of it")
    if step is not None and step.kind not in ("xor", "hex", "base64"):
        inner, last = peeled[at + 1].samples, peeled[-1].samples
        inside = [
            data[len(a) : len(data) - len(b)]
            for data, a, b in zip(stage.samples, step.fronts, step.backs, strict=True)
        ]
        bodies = [
            {"inside": one, "payload": end, "next": mid}
            if end is not mid and mid is not one else {"inside": one, "payload": end}
            for one, mid, end in zip(inside, inner, last, strict=True)
        ]  # fmt: skip
        known = Place(
            {name: tuple(len(body[name]) for body in bodies) for name in bodies[0]},
            place.numbers, place.texts, place.beside, place.stamps,
        )  # fmt: skip
        front = guess_front(step.fronts, bodies, known, budget)
        if max(map(len, step.backs)) <= _FRONT:
            back = guess_front(step.backs, bodies, known, budget)
    elif step is None and what == "bytes" and not any(one.cut for one in samples):
        fronts = [one[:_FRONT] for one in stage.samples]
        bodies = [{"inside": one[_FRONT:]} for one in stage.samples]
        known = Place({}, place.numbers, place.texts, place.beside, place.stamps)
        front = _told([
            one for one in guess_front(fronts, bodies, known, budget)
            if dict(one.spec).get("computed", {}).get("of") != "inside"
        ])  # fmt: skip
        within = tuple(streams_in(first, budget))[:20]
    return StageStudied(
        sizes, what, density, tuple(front), tuple(back), step, within, first[:32],
        blocks(first),
    )  # fmt: skip


def _told(front: Sequence[Guess]) -> list[Guess]:
    """Return what is known of bytes that may have no front at all, up to the last of it."""
    last = max(
        (at for at, one in enumerate(front) if one.kind not in ("same", "differs", "zeros")),
        default=-1,
    )
    return list(front[: last + 1])


def _values(
    peeled: Sequence[Peeled], samples: Sequence[Sample], known: Sequence[Known], budget: Budget
) -> tuple[tuple[ValueFound, ...], tuple[str, ...]]:
    found: list[ValueFound] = []
    missing: list[str] = []
    for name in dict.fromkeys(one.name for one in known):
        budget.begin(f"where {name} stands")
        own: dict[int, Wanted] = {}
        for at, sample in enumerate(samples):
            for one in known:
                if one.name == name and _is_of(one, sample.path):
                    own[at] = wanted(name, one.shown)
        if not own:
            continue
        here: list[ValueFound] = []
        for number, stage in enumerate(peeled):
            if stage.step is not None:
                continue  # what is packed in it is looked into instead
            pairs = [(stage.samples[at], one) for at, one in own.items()]
            leaves = [
                leaves_of(form, data) if (form := text_form(data)) else [] for data, _ in pairs
            ]
            ways = find_value(pairs, leaves, budget)
            if ways:
                shown = tuple(one.shown for one in own.values())
                here.append(ValueFound(name, shown, number, tuple(ways[:8])))
        found += here
        if not here:
            missing.append(name)
    return tuple(found), tuple(missing)


def _is_of(one: Known, path: str) -> bool:
    if not one.file:
        return True
    whole, part = f"/{path}", one.file.strip("/")
    stem = path.rpartition("/")[2].partition(".")[0]
    if f"/{part}/" in f"{whole}/" or stem == part or whole.endswith(f"/{part}"):
        return True
    return len(part) > 2 and part in path


def _alike(kinds: Sequence[KindStudied]) -> list[Alike]:
    """Return files of different kinds whose innermost bytes are the same."""
    seen: dict[str, tuple[int, str]] = {}
    found: list[Alike] = []
    for number, kind in enumerate(kinds):
        for sample, digest in zip(kind.samples, kind.digests, strict=True):
            if sample.cut or not sample.size:
                continue
            if digest in seen and seen[digest][0] != number:
                at = kind.samples.index(sample)
                found.append(Alike(seen[digest][1], sample.path, kind.stages[-1].sizes[at]))
            seen.setdefault(digest, (number, sample.path))
    return found
