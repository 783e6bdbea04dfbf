"""Parcels: one save for a friend, in neutral form, taken in by any edition.

A parcel is a zip that is a BagIt bag (RFC 8493): `data/save/…` has the save's pieces by their
roles, as they are without any edition's wrapping, and `data/parcel.json` says what it is. What that
edition knows of its player, computer and folders is in none of them. `Ferry.parcels` has the jobs.
"""

from __future__ import annotations

import json
import time
import zipfile
import zlib
from collections.abc import Iterator, Mapping
from datetime import UTC, datetime
from hashlib import sha256
from pathlib import Path
from typing import Any

from msgspec import Struct, ValidationError, convert, to_builtins

from clever_ferry.cargo import Save
from clever_ferry.errors import (
    DamagedError,
    FerryError,
    NotFoundError,
    UnsupportedError,
    WrongUseError,
)
from clever_ferry.finding.berths import Berth, OpenBerth, open_berth
from clever_ferry.moving.archives import open_archives
from clever_ferry.moving.outputs import new_file
from clever_ferry.moving.presence import file_stands
from clever_ferry.moving.zip_times import stamped
from clever_ferry.payload import BytesPayload, Payload
from clever_ferry.recipes import Game, Recipes
from clever_ferry.recipes.encoding import Encoding, encode
from clever_ferry.recipes.undressed import UNDRESSED

__all__ = ["Label", "Packed", "Parcel", "Parcels", "is_parcel"]

_VERSION = 1
_LABEL = "data/parcel.json"
_MANIFEST = "manifest-sha256.txt"
_LARGEST_TEXT = 8 << 20
_LONGEST_NOTE = 2_000
_TELLING = 4
"""Letters that a name must have at least, to be told from chance."""


class Label(Struct, frozen=True, forbid_unknown_fields=True):
    """What a parcel says of itself."""

    parcel: int
    """The version of this form."""
    game: str
    title: str
    edition: str
    """The edition that the save was of; which name fields it has follows from that."""
    edition_title: str
    recipe: str
    """A digest of the recipe that it was packed by."""
    fields: tuple[str, ...]
    facts: tuple[tuple[str, str], ...]
    note: str
    packed: str
    """The day, such as `2026-11-28`."""


class Packed(Struct, frozen=True):
    """A save as it went into a parcel."""

    save: Save
    label: Label
    pieces: tuple[tuple[str, int], ...]
    """What is in it, in words, and bytes of each."""
    left: tuple[str, ...]
    """What stays at home, in words."""
    shows: tuple[str, ...]
    """Pieces in which an account's name or number stands as text, and which; it was looked for."""


class Parcel(Struct, frozen=True):
    """A parcel that was read to its last byte."""

    label: Label
    opened: OpenBerth
    faults: tuple[str, ...]
    """What is not as it was packed; nothing, where the digests of all files agree."""
    known_recipe: bool
    """Whether it was packed by the very recipe that is here."""

    @property
    def save(self) -> Save:
        """The save in it; raises DamagedError where there is none, or more than one."""
        saves = self.opened.listing.saves
        if len(saves) != 1:
            raise DamagedError(f"A parcel has one save, and in this one are {len(saves)}.")
        return saves[0]


class Parcels:
    """Parcels as jobs."""

    def __init__(self, recipes: Recipes) -> None:
        self._recipes = recipes

    def _plain(self, game: str, edition: str, fields: tuple[str, ...]) -> Game:
        return self._recipes.undressed(game, edition, fields)

    def pack(self, opened: OpenBerth, file: Path, note: str = "") -> Packed:
        """Write the one chosen save into a new file.

        Raises WrongUseError where several are chosen, RefusedError where the file is there,
        DamagedError where the save can't be read.
        """
        berth, saves = opened.berth, opened.listing.saves
        if len(saves) != 1:
            raise WrongUseError(
                f"{berth.address} has {len(saves)} saves, and one is packed at a time.",
                details=tuple(f"  {one.slot}  {one.title}" for one in saves),
                advice=f"Name it, such as {berth.address}:{saves[0].slot}" if saves else "",
            )
        if len(note) > _LONGEST_NOTE:
            raise WrongUseError(f"A note has {_LONGEST_NOTE:,} letters at the most.")
        save = saves[0]
        if save.problems:
            raise DamagedError(
                f"{save.title} is not whole, so it is not sent.", details=save.problems,
                advice=f"cferry check {berth.address}:{save.slot}",
            )  # fmt: skip
        own = self._recipes.own_fields(berth.game.id, berth.edition.id)
        fields = tuple(name for name in own if name in save.fields)
        plain = self._plain(berth.game.id, berth.edition.id, fields).editions[UNDRESSED]
        asked = Encoding(plain, save, save.fields, opened.known)
        encoded = encode(asked, time.time_ns())
        label = Label(
            _VERSION, berth.game.id, berth.game.title, berth.edition.id, berth.edition.title,
            self._recipes.digest(berth.game.id), fields,
            tuple((fact.label, fact.text) for fact in save.shown_facts), note,
            f"{datetime.now(UTC):%Y-%m-%d}",
        )  # fmt: skip
        sizes: list[tuple[str, int]] = []
        private = _private(berth)
        shows: list[str] = []
        with new_file(file) as part:
            with zipfile.ZipFile(part, "x", zipfile.ZIP_DEFLATED) as made:
                sums = []
                for one in encoded:
                    watched = _Watched(one.payload, private)
                    size, told = _put(made, f"data/{one.put.name}", watched, one.put.stamp)
                    sizes.append((one.piece.title, size))
                    shows += [f"the {one.piece.title} has {name} in it" for name in watched.seen]
                    sums.append(told)
                text = json.dumps(to_builtins(label), indent=1, ensure_ascii=False).encode()
                sums.append(_put(made, _LABEL, BytesPayload(text), save.stamp or 0)[1])
                for name, tag in _tags(label, sums, sum(size for _, size in sizes) + len(text)):
                    made.writestr(name, tag)
            self.refuse_unlike(save, self.read(part))
        names = {one.piece.role for one in encoded}
        left = [piece.title for piece in save.pieces if piece.role not in names]
        return Packed(save, label, tuple(sizes), tuple(dict.fromkeys(left)), tuple(shows))

    def refuse_unlike(self, save: Save, parcel: Parcel) -> None:
        """Raise DamagedError where what was packed does not read back as the save that it is."""
        own = {fact.label: fact.text for fact in save.shown_facts}
        there = {fact.label: fact.text for fact in parcel.save.shown_facts}
        if parcel.faults or any(own.get(name) != text for name, text in there.items()):
            raise DamagedError("What was packed does not read back as it is, so it was not kept.")

    def read(self, file: Path) -> Parcel:
        """Read a parcel to its last byte; nothing is changed.

        Raises NotFoundError where there is no such file, UnsupportedError where a newer program
        has packed it or its game has no recipe here, DamagedError where it is no parcel.
        """
        label, faults = _checked(file)
        game = self._game(label)
        archive = open_archives([[file]], [])
        berth = Berth(
            game, game.editions[UNDRESSED], str(file), "linux", file, archive.below("data"), {},
            label=str(file),
        )  # fmt: skip
        opened = open_berth(berth)
        same = self._recipes.digest(label.game) == label.recipe
        return Parcel(label, opened, tuple(faults), same)

    def _game(self, label: Label) -> Game:
        try:
            return self._plain(label.game, label.edition, label.fields)
        except FerryError as error:
            raise UnsupportedError(
                f"There is no recipe here by which a parcel of {label.title!r} can be read.",
                details=(error.what,),
                advice="Ask whoever sent it for the recipe.",
            ) from None

    def berth_of(self, file: Path, game: Game) -> Berth:
        """Return what is in a parcel as a source of crossings.

        Raises DamagedError where anything in it is not as it was packed, and UnsupportedError where
        it is another game's.
        """
        parcel = self.read(file)
        if parcel.faults:
            raise DamagedError(
                f"{file} is not as it was packed.", details=parcel.faults[:5],
                advice="Have it sent once more.",
            )  # fmt: skip
        if parcel.label.game != game.id:
            raise UnsupportedError(
                f"{file} has a save of {parcel.label.title}, and not of {game.title}."
            )
        return parcel.opened.berth


def _private(berth: Berth) -> dict[str, bytes]:
    """Return what of a player a save may show, in words and as bytes: its berth's own names."""
    told = {f"the {name} {value}": str(value).encode() for name, value in berth.fields.items()}
    return {words: text for words, text in told.items() if len(text) >= _TELLING}


class _Watched:
    """A payload, and which of some texts have gone by in it."""

    def __init__(self, payload: Payload, texts: Mapping[str, bytes]) -> None:
        self._payload, self._texts = payload, texts
        self.size = payload.size
        self.seen: dict[str, None] = {}

    def chunks(self) -> Iterator[bytes]:
        """Yield the bytes, and look at them."""
        longest, kept = max(map(len, self._texts.values()), default=1), b""
        for chunk in self._payload.chunks():
            both = kept + chunk
            self.seen.update((name, None) for name, text in self._texts.items() if text in both)
            kept = both[-longest:]
            yield chunk


def is_parcel(file: Path) -> bool:
    """Tell whether a file is a parcel, whole or not; what is no plain file is none."""
    try:
        if not file_stands(file):  # a pipe would have one wait for whoever writes into it
            return False
        with zipfile.ZipFile(file) as opened:
            return _LABEL in opened.namelist()
    except (OSError, zipfile.BadZipFile, ValueError):
        return False


def _put(made: zipfile.ZipFile, name: str, payload: Payload, stamp: int) -> tuple[int, str]:
    info = stamped(name, stamp)
    info.compress_type = zipfile.ZIP_DEFLATED
    running, size = sha256(), 0
    with made.open(info, "w", force_zip64=True) as out:
        for chunk in payload.chunks():
            out.write(chunk)
            running.update(chunk)
            size += len(chunk)
    return size, f"{running.hexdigest()}  {name}\n"


def _tags(label: Label, sums: list[str], size: int) -> Iterator[tuple[str, str]]:
    told = {
        "Bagging-Date": label.packed,
        "External-Description": f"A save of {label.title}, packed by Clever Ferry",
        "Payload-Oxum": f"{size}.{len(sums)}",
        "Bag-Software-Agent": "Clever Ferry",
    }
    tags = {
        "bagit.txt": "BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n",
        "bag-info.txt": "".join(f"{key}: {value}\n" for key, value in told.items()),
        _MANIFEST: "".join(sums),
    }
    yield from tags.items()
    yield (
        "tagmanifest-sha256.txt",
        "".join(f"{sha256(text.encode()).hexdigest()}  {name}\n" for name, text in tags.items()),
    )


def _checked(file: Path) -> tuple[Label, list[str]]:
    """Return what a parcel says of itself, and what in it is not as it was packed."""
    try:
        if not file_stands(file):
            raise NotFoundError(f"There is no file {file}.")
        with zipfile.ZipFile(file) as opened:
            raw = _small(opened, _LABEL)
            label = _label(file, json.loads(raw))
            return label, list(_faults(opened))
    except KeyError:
        raise DamagedError(
            f"{file} is no parcel.",
            advice="A downloaded save is carried by cferry cross --from-file FILE TO.",
        ) from None
    except (OSError, ValueError, zipfile.BadZipFile, RecursionError, EOFError) as error:
        raise DamagedError(
            f"{file} can't be read as a parcel: {error}.", advice="Have it sent once more."
        ) from None


def _label(file: Path, data: Any) -> Label:
    version = data.get("parcel") if isinstance(data, Mapping) else None
    if isinstance(version, int) and version > _VERSION:
        raise UnsupportedError(
            f"{file} was packed by a newer cferry (form {version}, and {_VERSION} is known here).",
            advice="Update cferry, then try again.",
        )
    try:
        return convert(data, Label)
    except ValidationError as error:
        raise DamagedError(f"{file} is no parcel that can be read: {error}.") from None


def _small(opened: zipfile.ZipFile, name: str) -> bytes:
    with opened.open(name) as part:
        found = part.read(_LARGEST_TEXT + 1)
    if len(found) > _LARGEST_TEXT:
        raise ValueError(f"{name} is too large")
    return found


def _faults(opened: zipfile.ZipFile) -> Iterator[str]:
    """Yield what is missing, unnamed or another than the digests say."""
    names = [one for one in opened.namelist() if not one.endswith("/")]
    for double in sorted({one for one in names if names.count(one) > 1}):
        yield f"{double} is in it twice"
    for manifest, inside in ((_MANIFEST, True), ("tagmanifest-sha256.txt", False)):
        if manifest not in names:
            yield f"{manifest} is missing"
            continue
        told: dict[str, str] = {}
        for line in _small(opened, manifest).decode("utf-8", "replace").splitlines():
            digest, _, name = line.partition("  ")
            told[name] = digest
        for name, digest in told.items():
            if name not in names:
                yield f"{name} is missing"
            elif _digest(opened, name) != digest:
                yield f"{name} is not as it was packed"
        if inside:
            data = [one for one in names if one.startswith("data/")]
            yield from (f"{one} was not packed" for one in data if one not in told)


def _digest(opened: zipfile.ZipFile, name: str) -> str:
    running = sha256()
    try:
        with opened.open(name) as part:
            while block := part.read(1 << 20):
                running.update(block)
    except (zipfile.BadZipFile, zlib.error, OSError, EOFError, ValueError, RuntimeError):
        return ""
    return running.hexdigest()
