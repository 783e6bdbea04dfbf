"""Agreements: values in a document that must be so because of something else.

What is carried has nothing in their places, so that nobody's identity, size or checksum travels;
what is right at the target is written there. Only these places are touched, and the document
around them stays as it is.
"""

from __future__ import annotations

import base64
import binascii
from collections.abc import Callable, Iterable, Iterator, Mapping
from typing import Any, NamedTuple, Protocol

from clever_ferry.documents.document import Was, each_in, held, spelled_in, with_values
from clever_ferry.documents.form import Form, Rewriting
from clever_ferry.documents.nodes import Node, Single
from clever_ferry.documents.places import text_of
from clever_ferry.errors import DamagedError, RefusedError
from clever_ferry.layers.chain import Parts, Stages
from clever_ferry.layers.document_spec import AgreementSpec, StageSpec
from clever_ferry.layers.found import Found
from clever_ferry.layers.known import Known, Writing
from clever_ferry.layouts import start_digest
from clever_ferry.layouts.digests import DIGEST_BYTES, DIGEST_DIGITS, DigestName
from clever_ferry.layouts.times import from_ns
from clever_ferry.naming import Value
from clever_ferry.payload import Payload, StreamPayload

__all__ = [
    "AGREED",
    "Agreements",
    "Claim",
    "Stage",
    "digest_at",
    "read_value",
    "spelled_value",
]

AGREED = "agreed"
"""By which name, with its number behind, headers tell what an agreement's places said."""


class _Values(Protocol):
    """What a recipe says of them, by either of two spellings."""

    @property
    def holds(self) -> str: ...
    @property
    def values(self) -> tuple[AgreementSpec, ...]: ...


class Claim(NamedTuple):
    """What a piece says of another's bytes."""

    spec: AgreementSpec
    found: int | str
    """The number, or the bytes' hex digits."""

    def fault(self, payload: Payload) -> str:
        """Return what it says wrongly of the bytes of its stage; '' where it is so."""
        assert self.spec.what is not None
        right = digest_at(self.spec.what, payload)
        if _alike(self.found, right):
            return ""
        size = self.spec.what == "size"  # free: how it is said
        return (
            f"says {_shown(self.found, size)} at {_places(self.spec)}, but the {self.spec.piece}'s "
            f"{self.spec.what} is {_shown(right, size)}"
        )


class Agreements:
    """Values of one document, each in one or several places."""

    @classmethod
    def of(cls, spec: _Values, parts: Parts) -> Agreements:
        """Return the layer that a recipe says."""
        return cls(spec.values, parts.form(spec.holds))

    def __init__(self, specs: tuple[AgreementSpec, ...], form: Form) -> None:
        self.specs, self.form = specs, form
        self.bound = frozenset(one.field for one in specs if one.field and not one.kept)

    @property
    def needs(self) -> frozenset[str]:
        """The roles of the pieces whose bytes it speaks of."""
        return frozenset(one.piece for one in self.specs if one.piece)

    def unwrap(self, source: Payload, found: Found) -> tuple[Payload, list[list[Was]]]:
        """Return the document with nothing in these places; the residue is what stood there."""
        source = held(source)
        residue: list[list[Was]] = []
        blanks: list[tuple[Node, Single]] = []
        for spec in self.specs:
            nodes = self._nodes(spec, source)
            value = _one_value(spec, nodes)
            residue.append(spelled_in(source, nodes))
            if spec.always is not None:
                if not _alike(value, spec.always):
                    raise DamagedError(
                        f"{_places(spec)} is {value!r}, where {spec.always!r} belongs."
                    )
                continue
            named = spec.field or spec.fact
            if named is not None:
                found.bound[named] = value
            if spec.fixed:
                continue
            if spec.piece is not None:
                found.claims.append(Claim(spec, value))
            rebuilt = getattr(self.form, "rebuilds", False)
            found.headers[_key(spec)] = {
                "places": len(nodes), "value": value, "rebuilt": rebuilt,
            }  # fmt: skip
            blanks += [(node, self._blank(spec, node)) for node in nodes]
        return with_values(self.form, source, blanks), residue

    def blanked(self, source: Payload) -> Payload:
        """Return a document that nobody has filled in yet as one that was taken apart."""
        source = held(source)
        nodes = [(spec, node) for spec in self.specs if not spec.fixed
                 for node in self._nodes(spec, source)]  # fmt: skip
        return with_values(self.form, source, [
            (node, self._blank(spec, node) if spec.always is None else
             _spelled(spec, node, spec.always)) for spec, node in nodes
        ])  # fmt: skip

    def wrap(self, inside: Payload, stages: Stages, residue: Any, known: Known) -> Payload:
        """Return the document with what is right at the target in these places."""
        makers = [
            _always(self._refuse_other(spec, inside, known)) if spec.fixed
            else self._maker(spec, _was(spec, number, residue), known)
            for number, spec in enumerate(self.specs)
        ]  # fmt: skip
        return StreamPayload(lambda: self._written(inside, residue, makers))

    def recall(self, headers: Mapping[str, Mapping[str, Any]]) -> dict[str, Value]:
        """Return what may stay as it was where the document comes from."""
        said = {_key(spec): headers.get(_key(spec)) for spec in self.specs}
        return {key: own["value"] for key, own in said.items() if own is not None}

    def _refuse_other(self, spec: AgreementSpec, inside: Payload, known: Known) -> Value:
        """Return what stands where nothing else can be written; raises RefusedError."""
        value = _one_value(spec, self._nodes(spec, held(inside)))
        here = known.fields.get(spec.field or "")
        if here is None or not _alike(value, here):
            raise RefusedError(
                f"It belongs to the {spec.field} {value}, which nobody can change, and the game "
                f"here would take only {here}.",
                advice="Its game is the only way: see whether it can export or share the save.",
            )
        return value

    def _maker(self, spec: AgreementSpec, was: Value | None, known: Known) -> Callable[[], Value]:
        """Return what gives a value when it is written; raises RefusedError where nothing can."""
        writing = known.writing
        if spec.always is not None:
            return _always(spec.always)
        if spec.field is not None:
            value = known.fields.get(spec.field)
            if value is None and spec.kept:
                value = was
            return _always(_known(value, f"The target's {spec.field}"))
        if spec.fact is not None:
            value = writing.facts.get(spec.fact) if writing is not None else was
            return _always(_known(value, f"The save's {spec.fact}"))
        if writing is None:  # nothing is carried: it is put together as it was taken apart
            return _always(_known(was, f"What belongs at {_places(spec)}"))
        if spec.counts:
            before = writing.before.get(_key(spec), {}).get("value", 0)
            counted = [int(one) for one in (before, was or 0) if str(one).isdecimal()]
            return _always(max(counted, default=0) + 1)
        if spec.written is not None:
            return _always(from_ns(writing.now, spec.written))
        return _digested(spec, writing)

    def _written(
        self, inside: Payload, residue: Any, makers: Iterable[Callable[[], Value]]
    ) -> Iterator[bytes]:
        inside = held(inside)
        new: list[tuple[Node, Single | bytes]] = []
        for number, (spec, make) in enumerate(zip(self.specs, makers, strict=True)):
            if spec.fixed:
                continue
            nodes, value = self._nodes(spec, inside), make()
            was = residue[number] if isinstance(residue, list) else []
            for at, node in enumerate(nodes):
                put = _spelled(spec, node, value)
                same = at < len(was) and text_of(was[at].node.value) == text_of(put)
                keep = same and not isinstance(self.form, Rewriting)
                new.append((node, was[at].spelled if keep else put))
        yield from with_values(self.form, inside, new).chunks()

    def _blank(self, spec: AgreementSpec, node: Node) -> Single:
        if isinstance(self.form, Rewriting):
            return self.form.blank(node)
        number = isinstance(node.value, int | float) and not isinstance(node.value, bool)
        return 0 if number else f"no_{'_'.join(spec.words.split())}"  # needs no quotes anywhere

    def _nodes(self, spec: AgreementSpec, source: Payload) -> list[Node]:
        """Return the values at all of its places, each once, in order; raises DamagedError."""
        every = each_in(self.form, source, spec.places)
        nodes = [one for one in every if _is_single(one, spec.written is not None)]
        if not nodes:
            raise DamagedError(f"There is no {spec.words} at {_places(spec)}, where one belongs.")
        return nodes


class Stage:
    """A name for the bytes as they are between two layers."""

    bound: frozenset[str] = frozenset()

    def __init__(self, spec: StageSpec) -> None:
        self.name = spec.name

    def unwrap(self, source: Payload, found: Found) -> tuple[Payload, None]:
        """Return the bytes, checked by all that layers further out say of this stage."""
        return found.checked(self.name, source), None

    def wrap(self, inside: Payload, stages: Stages, residue: Any, known: Known) -> Payload:
        """Return the bytes, and note them."""
        stages[self.name] = inside
        return inside


def digest_at(what: DigestName, payload: Payload) -> int | str:
    """Read bytes to their end; return their size or checksum, or a digest's hex digits."""
    running = start_digest(what)
    for chunk in payload.chunks():
        running.update(chunk)
    value = running.value
    return value.hex() if isinstance(value, bytes) else value


def _digested(spec: AgreementSpec, writing: Writing) -> Callable[[], Value]:
    stage, what, piece = writing.stage, spec.what, spec.piece
    if stage is None or what is None or piece is None:
        raise RefusedError(f"The {piece} is not written with it, and it says the {what} of that.")
    payload = stage(piece, spec.stage)
    return lambda: digest_at(what, payload)


def _always(value: Value) -> Callable[[], Value]:
    return lambda: value


def _known(value: Value | None, what: str) -> Value:
    if value is None:
        raise RefusedError(f"{what} is not known, and must be written.")
    return value


def _was(spec: AgreementSpec, number: int, residue: Any) -> Value | None:
    """Return what was said where it comes from, of which a residue is left or headers tell."""
    if isinstance(residue, list) and spec.always is None:
        return _one_value(spec, [one.node for one in residue[number]])
    value: Value | None = residue.get(_key(spec)) if isinstance(residue, dict) else None
    return value


def _key(spec: AgreementSpec) -> str:
    """Return by what name other wrappings of the same piece know an agreement."""
    if spec.field is not None:
        return f"{AGREED} {spec.field}"
    return f"{AGREED} {spec.words} at {_places(spec)}"


def _places(spec: AgreementSpec) -> str:
    return " or ".join(spec.places)


def _is_single(node: Node, empty: bool) -> bool:
    """Tell whether a value is one that can agree; a time may be `empty`."""
    if node.inner is not None or isinstance(node.value, bool):
        return False
    return isinstance(node.value, str | int | float) or (empty and node.value is None)


def _one_value(spec: AgreementSpec, nodes: list[Node]) -> int | str:
    """Return what all of an agreement's places say; raises DamagedError."""
    values = [read_value(spec, node) for node in nodes]
    if any(not _alike(one, values[0]) for one in values):
        told = ", ".join(sorted({str(one) for one in values})[:4])
        if spec.field is not None:
            raise DamagedError(
                f"It is not plain whose it is: its places name more than one {spec.field} ({told})."
            )
        raise DamagedError(f"Its places do not say one {spec.words}: {told}.")
    return values[0]


def read_value(spec: AgreementSpec, node: Node) -> int | str:
    """Return a value as itself: a number, text, or bytes' hex digits."""
    value = _plainly(spec, node)
    if not spec.plus:
        return value
    if not str(value).removeprefix("-").isdecimal():
        raise DamagedError(f"{value!r} at {_places(spec)} is no number.")
    return int(value) - spec.plus


def _plainly(spec: AgreementSpec, node: Node) -> int | str:
    value = node.value
    text = text_of(value)
    try:
        match spec.spelled:
            case "decimal":
                return int(text)
            case "hex" | "HEX":
                bytes_of = spec.what in DIGEST_BYTES or (spec.field or spec.fact) is not None
                return text.lower() if bytes_of else int(text, 16)
            case "number-hex" | "number-HEX":
                return int(text, 16)
            case "hex-little":
                return bytes.fromhex(text)[::-1].hex()
            case "base64":
                return base64.b64decode(text, validate=True).hex()
            case _:
                return value if isinstance(value, int) else text
    except (ValueError, binascii.Error):
        raise DamagedError(
            f"{text!r} at {_places(spec)} is no {spec.words} as it is spelled there."
        ) from None


def _spelled(spec: AgreementSpec, node: Node, value: Value) -> Single:
    """Return a value as it is spelled at a node; raises RefusedError where it can't be."""
    try:
        if spec.plus:
            value = int(value) + spec.plus
        match spec.spelled:
            case "decimal":
                return str(int(value)).zfill(spec.digits or 1)
            case "number-hex" | "number-HEX":
                text = f"{int(value):x}".zfill(spec.digits or 1)
                return text if spec.spelled == "number-hex" else text.upper()
            case "hex" | "HEX":
                if isinstance(value, int) and spec.what is None:
                    raise ValueError("it is a number")
                digits = spec.digits or DIGEST_DIGITS.get(spec.what or "size", 1)
                text = (f"{value:x}" if isinstance(value, int) else value.lower()).zfill(digits)
                return text if spec.spelled == "hex" else text.upper()
            case "hex-little":
                return bytes.fromhex(str(value))[::-1].hex()
            case "base64":
                return base64.b64encode(bytes.fromhex(str(value))).decode()
            case _:
                return _typed(node, value)
    except ValueError:
        raise RefusedError(f"{value!r} can't be spelled {spec.spelled}.") from None


def spelled_value(spec: AgreementSpec, node: Node, payload: Payload) -> Single:
    """Return what a node is to say of some bytes, as it is spelled there."""
    assert spec.what is not None
    return _spelled(spec, node, digest_at(spec.what, payload))


def _typed(node: Node, value: Value) -> Single:
    """Return a value as what stands at a node: a number, where one does, or a time is empty."""
    if not isinstance(node.value, int | float | None):
        return str(value)
    if not str(value).removeprefix("-").isdecimal():
        raise RefusedError(f"{value!r} must stand as a number.")
    return int(value)


def _alike(one: int | str, other: int | str) -> bool:
    if isinstance(one, int) or isinstance(other, int):
        texts = (str(one), str(other))
        return all(text.removeprefix("-").isdecimal() for text in texts) and (
            int(texts[0]) == int(texts[1])
        )
    return one.lower() == other.lower()


def _shown(value: int | str, size: bool) -> str:
    if not isinstance(value, int):
        return value
    return f"{value:,}" if size else f"{value:08x}"
