"""What is established of a save, piece by piece: verified, opened, or only read; or damaged.

A piece is read through its wrapping, through the layers that it `opens` by, and then as the form
that its recipe states (`holds`) or that its bytes show. What the recipe states and the bytes are
not is damage. What only looks wrong (a form that nobody stated, zeros to the end, a size unlike
all others) is a suspicion, and told as one.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from statistics import median
from typing import Literal

from msgspec import Struct
from msgspec.structs import replace

from clever_ferry.boxes import Contents
from clever_ferry.cargo import Piece, Save
from clever_ferry.certainty import Evidence, Level, strongest
from clever_ferry.documents.places import value_at
from clever_ferry.errors import DamagedError, KeyNeededError, UnsupportedError
from clever_ferry.forms.recognising import ANY, form_of
from clever_ferry.forms.verifying import verify
from clever_ferry.layers import Known
from clever_ferry.layers.agreements import Claim
from clever_ferry.payload import Payload, head
from clever_ferry.recipes.edition import Edition
from clever_ferry.recipes.facts import UNREADABLE
from clever_ferry.tree import Files

__all__ = ["Established", "Examined", "Examiner"]

Reading = Literal["all", "wrapped", "none"]
"""What is read to its end in order to examine it."""
_ZEROS, _SHARE = 4096, 16
"""Zeros at a file's end are suspicious from so many on, if they are a sixteenth of it or more."""
_LIKES, _TENTH = 3, 10
"""A file is suspiciously small with less than a tenth of what three or more others have."""
_WINDOW = 1 << 16
_LETTERS = frozenset({"ini", "json", "png", "toml", "xml", "yaml", "zip"})
"""Forms whose names are initials."""


class Established(Struct, frozen=True):
    """What reading one piece has established."""

    piece: Piece
    level: Level
    by: str
    faults: tuple[str, ...] = ()
    suspicions: tuple[str, ...] = ()


class Examined(Struct, frozen=True):
    """A save, every piece of which was examined; its problems are all that is wrong."""

    save: Save
    pieces: tuple[Established, ...]
    damage: tuple[str, ...] = ()
    """What is wrong with the bytes themselves: of its box, or of its pieces."""

    @property
    def suspicions(self) -> tuple[str, ...]:
        """What only looks wrong, by piece."""
        return tuple(f"{one.piece.entry}: {told}" for one in self.pieces for told in one.suspicions)


class Examiner:
    """Examines the saves of one berth."""

    def __init__(
        self, edition: Edition, contents: Contents, known: Known,
        files: Files | None, saves: Sequence[Save] = (),
    ) -> None:  # fmt: skip
        """`files` are the berth's, among which a database's journals stand; None for a box.

        `known` is what is known of it; `saves` are all of the berth, whose sizes are compared.
        """
        self._edition, self._known = edition, known
        self._files = files if edition.box_title is None else None
        self._contents = contents
        self._checked = {entry.name: entry.checked for entry in contents.entries if entry.checked}
        self._containers: dict[str, tuple[Evidence | None, str]] = {}
        self._sizes: dict[str, list[int]] = {}
        for save in saves:
            for piece in save.pieces:
                self._sizes.setdefault(piece.role, []).append(piece.size or 0)

    def _container(self, piece: Piece) -> tuple[Evidence | None, str]:
        """What verifying the file of the box that a piece is in establishes, or what is wrong.

        Nothing, where a box of its kind has no file that could be verified as one.
        """
        path = next((path for path in piece.files if path in self._contents.own), None)
        if self._contents.inspect is None or path is None:
            return None, ""
        if path not in self._containers:
            try:
                self._containers[path] = self._contents.inspect(path), ""
            except UNREADABLE as error:
                self._containers[path] = None, error.what.rstrip(".")
        return self._containers[path]

    def examine(self, save: Save, reading: Reading = "all") -> Examined:
        """Return what is established of a save.

        `reading` says what is read to its end for it: `all` pieces; those that are `wrapped` or
        checked by their box, where the files themselves are read elsewhere, as for a backup; or
        `none`, where all payloads are, as when they are carried. Raises KeyNeededError where a key
        is missing; and, but for `all`, where a file is gone or changes at this moment.
        """
        pieces, unlike, damage = [], list[str](), list[str]()
        for piece in save.pieces:
            own, broken = self._container(piece)
            damage += [broken] if broken else []
            unlike += self._edition.unlike(piece, save, self._known.fields)
            found = self._established(piece, save, reading, own)
            pieces.append(found)
            damage += [f"{piece.entry}: {fault}" for fault in found.faults]
        kept = replace(save, problems=tuple(dict.fromkeys([*save.problems, *unlike, *damage])))
        return Examined(kept, tuple(pieces), tuple(dict.fromkeys(damage)))

    def _established(
        self, piece: Piece, save: Save, reading: Reading, own: Evidence | None
    ) -> Established:
        if piece.problem:
            return Established(piece, "only read", "")
        evidence = [own] if own is not None else []
        if piece.entry in self._checked:
            evidence.append(Evidence("verified", self._checked[piece.entry]))
        faults: list[str] = []
        suspicions: list[str] = []
        try:
            evidence += self._through(piece, save, reading, faults, suspicions)
        except KeyNeededError:
            raise
        except UnsupportedError as error:
            suspicions.append(f"it could only be read, not opened: {error.what.rstrip('.')}")
        except UNREADABLE as error:
            if not (reading == "all" or isinstance(error, DamagedError)):
                raise  # it is gone, or changes at this moment
            faults.append(error.what.rstrip("."))
        except OSError as error:
            faults.append(f"it can't be read: {error.strerror or error}")
        suspicions += self._by_size(piece)
        best = strongest(evidence)
        return Established(piece, best.level, best.by, tuple(faults), tuple(suspicions))

    def _through(
        self, piece: Piece, save: Save, reading: Reading, faults: list[str], suspicions: list[str]
    ) -> list[Evidence]:
        """Read a piece through all that wraps it; return what that establishes."""
        edition, file = self._edition, self._edition.file_of(piece.role)
        opens = edition.pieces[piece.role].opens
        found: list[Callable[[], Evidence]] = []
        if file is not None and piece.wrapped is not None and not file.bare:
            found += file.chain.unwrap(piece.wrapped, self._known).evidence
        payload, inner = edition.reader.inside(piece, self._known)
        end = _End()
        wrapped = bool(found) or piece.entry in self._checked
        if opens or reading == "all" or (reading == "wrapped" and wrapped):
            for chunk in payload.chunks():
                end.take(chunk)
        evidence = [one() for one in (*found, *inner)]
        if file is not None and file.sidecar is not None and file.sidecar.layout is not None:
            evidence.append(Evidence("opened", "read by its layout"))
        for sidecar, made in edition.sidecars_of(piece, save):
            wrong = sidecar.faults(made, piece)
            faults += wrong
            if sidecar.digests and not wrong:
                by = f"its {made.role}'s {', '.join(sidecar.digests)}"
                evidence.append(Evidence("verified", by))
        evidence += self._by_others(piece, save, faults)
        known = self._by_form(piece, payload, evidence, faults, suspicions)
        suspicions += self._by_reach(piece, payload)
        if known.level != "verified":
            suspicions += end.suspicions(strongest(evidence).level)
        return [*evidence, known]

    def _by_others(self, piece: Piece, save: Save, faults: list[str]) -> list[Evidence]:
        """Hold a piece against what the save's others say of it."""
        evidence = []
        for other, claim in self._edition.claims_on(piece, save):
            stage = self._edition.at_stage(piece, claim.spec.stage, self._known)
            wrong = claim.fault(stage)
            if wrong:
                faults.append(f"{other.entry} {wrong}")
            elif claim.spec.what != "size":
                evidence.append(Evidence("verified", f"its {other.role}'s {claim.spec.what}"))
        entries = [one.entry for one in save.pieces]
        for lists in (one for one in piece.claims if not isinstance(one, Claim)):
            faults += [f"it lists {name}, which is not there" for name in lists.lacking(entries)]
        return evidence

    def _by_form(
        self, piece: Piece, payload: Payload, evidence: Sequence[Evidence], faults: list[str],
        suspicions: list[str],
    ) -> Evidence:  # fmt: skip
        """Verify a payload by the form that it is said to have, or that it shows."""
        stated = self._edition.pieces[piece.role].holds
        stated = None if stated == ANY else stated
        form = stated or form_of(head(payload, 4096))
        nothing = Evidence("only read")
        if not form:
            return nothing
        try:
            return verify(self._edition.reader.forms.get(form, form), payload)
        except UnsupportedError as error:
            suspicions.append(f"not verified as {_spelled(form)}: {error.what.rstrip('.')}")
        except DamagedError as error:
            if stated is not None:
                faults.append(error.what.rstrip("."))
            elif strongest(evidence).level != "verified":
                suspicions.append(f"it begins like {_spelled(form)}, but {_inside(error.what)}")
        return nothing

    def _by_reach(self, piece: Piece, payload: Payload) -> list[str]:
        """Return where a position that stands in a piece is beyond its end."""
        found = []
        for reach in self._edition.pieces[piece.role].reaches:
            layout = self._edition.reader.layout(reach.layout)
            size = payload.size
            try:
                at = value_at(layout.read(head(payload, _WINDOW))[0], reach.at)
            except UNREADABLE:
                continue  # of another release, perhaps
            if size is not None and isinstance(at, int) and at > size:
                found.append(f"it speaks of byte {at:,}, but it ends at {size:,}: cut short?")
        return found

    def _by_size(self, piece: Piece) -> list[str]:
        sizes = self._sizes.get(piece.role, [])
        if piece.size == 0:
            return ["it is empty"] if any(sizes) or len(sizes) < _LIKES else []
        if piece.size is None or len(sizes) <= _LIKES:
            return []
        usual = median(sizes)
        if piece.size * _TENTH < usual:
            return [f"it has {piece.size:,} bytes; such files here have {usual:,.0f} mostly"]
        return []


class _End:
    """How the bytes that went by ended."""

    def __init__(self) -> None:
        self.size = self.zeros = 0

    def take(self, chunk: bytes) -> None:
        """Take in the next bytes."""
        bare = len(chunk.rstrip(b"\0"))
        self.zeros = self.zeros + len(chunk) if bare == 0 else len(chunk) - bare
        self.size += len(chunk)

    def suspicions(self, level: Level) -> list[str]:
        """Return what looks wrong about it, where nothing has verified the bytes."""
        if level == "verified" or self.zeros < _ZEROS or self.zeros * _SHARE < self.size:
            return []
        if self.zeros == self.size:
            return [f"all of its {self.size:,} bytes are zero"]
        return [f"its last {self.zeros:,} bytes are zero"]


def _spelled(form: str) -> str:
    """Return a form's name as people write it."""
    return "SQLite" if form == "sqlite" else form.upper() if form in _LETTERS else form


def _inside(told: str) -> str:
    """Return a sentence as it stands within another; a name at its start stays as it is."""
    told = told.rstrip(".")
    return told[:1].lower() + told[1:] if told[1:2].islower() else told
