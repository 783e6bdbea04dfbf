"""Boxes of one document that all saves share: each save is an element, a section or a member."""

from __future__ import annotations

from bisect import bisect
from collections.abc import Callable, Collection, Iterator, Sequence
from typing import NamedTuple

from clever_ferry.boxes.beside import files_beside, written_beside
from clever_ferry.boxes.box import BoxParts, Contents, Entry, Making, Put, one_file
from clever_ferry.boxes.one_file_spec import NodesSpec, PartSpec
from clever_ferry.documents.document import (
    Insert,
    Remove,
    changed,
    nodes_in,
    spelled_in,
    with_values,
)
from clever_ferry.documents.form import Form, Joining, Rewriting
from clever_ferry.documents.nodes import Node, Single
from clever_ferry.documents.places import escaped, text_of
from clever_ferry.errors import DamagedError, RefusedError
from clever_ferry.layers import Chain
from clever_ferry.payload import BytesPayload, Payload, read_all
from clever_ferry.tree import Files, Output

__all__ = ["NodesBox"]

_LARGEST = 256 << 20
_WHOLE = PartSpec(at="")


class _Held(NamedTuple):
    """One element: where it stands, and the nodes of its parts."""

    place: str
    node: Node
    parts: dict[str, Node]


class _State(NamedTuple):
    data: Payload
    residue: tuple[object, ...]
    elements: dict[str, _Held]


class NodesBox:
    """One document with an element for each save."""

    @classmethod
    def of(cls, spec: NodesSpec, parts: BoxParts) -> NodesBox:
        """Return the box that a recipe says."""
        try:
            form = parts.form(spec.holds)
        except KeyError:
            raise DamagedError(f"There is no form {spec.holds!r} of documents.") from None
        if isinstance(form, Rewriting):
            raise DamagedError(f"{spec.holds!r} is a layout, in which nothing can be added.")
        return cls(spec, form, parts.joined(spec.layers))

    def __init__(self, spec: NodesSpec, form: Form, chain: Chain) -> None:
        self.spec, self.form, self.chain = spec, form, chain
        self.parts = spec.parts or {"": _WHOLE}
        self.above, _, self.last = spec.entries.rpartition("/")
        if spec.template is not None:
            self._places_in_template(spec.parts)

    def read(self, files: Files, enter: Callable[[str], bool]) -> Contents:
        """Return the parts of every element."""
        spec, file = self.spec, one_file(files, self.spec.file)
        try:
            unwrapped = self.chain.unwrap(file)
            data = BytesPayload(read_all(unwrapped.payload, limit=_LARGEST, what=spec.file))
            elements = self._named(data) if spec.name is not None else self._keyed(data)
        except DamagedError as error:
            raise DamagedError(f"{spec.file} is damaged: {error.what}") from None
        entries = [
            one for name, held in elements.items() for one in self._entries(data, name, held)
        ]
        if spec.beside:
            entries += files_beside(files, enter, lambda path: path == spec.file)
        state = _State(data, unwrapped.residue, elements)
        return Contents(tuple(entries), {}, state, (spec.file,))

    def _keyed(self, data: Payload) -> dict[str, _Held]:
        """Return the elements that have names of their own."""
        (above,) = nodes_in(self.form, data, [self.above])
        names = [name for one in above for name in one.names]
        places = {name: f"{self.above}/{escaped(name)}" for name in dict.fromkeys(names)}
        found: dict[str, _Held] = {}
        for name, held in zip(places, self._held(data, list(places.values())), strict=True):
            if len(held) > 1:
                raise DamagedError(f"it names {name!r} twice")
            found.update((name, one) for one in held if one.node.inner is not None)
        return found

    def _named(self, data: Payload) -> dict[str, _Held]:
        """Return the elements that are told apart by a value in them."""
        (every,) = self._held(data, [self.spec.entries])
        found: dict[str, _Held] = {}
        for held in every:
            name = held.parts.pop("name", None)
            if name is None or name.inner is not None:
                raise DamagedError(f"one of its elements has no name at {self.spec.name}")
            text = text_of(name.value)
            if text in found:
                raise DamagedError(f"it names {text!r} twice")
            place = f"{self.above}/[{_within(self.spec.name)}={escaped(text)}]"
            if self.last != "*":
                place = f"{self.spec.entries}/[{_within(self.spec.name)}={escaped(text)}]"
            found[text] = held._replace(place=place)
        return found

    def _held(self, data: Payload, places: Sequence[str]) -> list[list[_Held]]:
        """Return the elements at each place, with the nodes in them, told by where they stand."""
        inner = {name: part.at for name, part in self.parts.items() if part.at}
        if self.spec.name is not None:
            inner["name"] = self.spec.name
        asked = [place + more for place in places for more in ("", *inner.values())]
        nodes = iter(nodes_in(self.form, data, asked))
        found: list[list[_Held]] = []
        for place in places:
            own = [_Held(place, node, {}) for node in next(nodes)]
            own.sort(key=lambda one: one.node.first)
            begins = [one.node.first for one in own]
            for name in inner:
                for node in next(nodes):
                    at = bisect(begins, node.start) - 1
                    if at < 0 or not _is_in(node, own[at].node):
                        raise DamagedError(f"what stands at {inner[name]} is in no element")
                    holder = own[at]
                    if name in holder.parts:
                        raise DamagedError(f"more than one stands at {inner[name]} of an element")
                    holder.parts[name] = node
            found.append(own)
        return found

    def _entries(self, data: Payload, name: str, held: _Held) -> Iterator[Entry]:
        for part, spec in self.parts.items():
            node = held.parts.get(part) if spec.at else held.node
            if node is not None:
                raw = _bytes_of(data, node, text=spec.text)
                own = f"{name}/{part}" if part else name
                yield Entry(own, len(raw), None, BytesPayload(raw), (self.spec.file,))

    def write(
        self, contents: Contents, puts: Sequence[Put], removes: Sequence[str], making: Making
    ) -> Iterator[Output]:
        """Yield the document anew; every other element is as it was, byte for byte."""
        state: _State = contents.state
        if self.spec.beside:
            files = {one.name for one in contents.entries if one.files == (one.name,)}
            files |= {put.name for put in puts if not self._is_own(put.name)}
            yield from written_beside(puts, removes, lambda name: name not in files, making)
            puts = [put for put in puts if put.name not in files]
            removes = [name for name in removes if name not in files]
            if not puts and not removes:
                return
        data: Payload = state.data
        by_name: dict[str, dict[str, bytes]] = {}
        for put in puts:
            name, part = self._told(put.name)
            raw = read_all(put.payload, limit=_LARGEST, what=put.name)
            self._refuse_other_name(name, raw)
            by_name.setdefault(name, {})[part] = raw
        put_names = {put.name for put in puts}
        gone: list[str] = []
        for name, element in state.elements.items():
            inside = {one.name for one in self._entries(state.data, name, element)}
            if name not in by_name and inside and inside.issubset(removes):
                gone.append(name)
        for one in removes:
            name, part = self._told(one)
            if name in state.elements and name not in gone and one not in put_names:
                raise RefusedError(f"{part} can't be taken out of {name} in {self.spec.file}.")
        changes = [(held.parts.get(part) if self.parts[part].at else held.node, part, raw)
                   for name, own in by_name.items() if (held := state.elements.get(name))
                   for part, raw in own.items()]  # fmt: skip
        for node, part, _ in changes:
            if node is None:
                raise RefusedError(f"An element of {self.spec.file} has no {part} to be replaced.")
        data = with_values(self.form, data, [
            (node, _put(raw, self.parts[part])) for node, part, raw in changes if node is not None
        ])  # fmt: skip
        data = changed(self.form, data, [Remove(state.elements[name].place) for name in gone])
        for name, own in by_name.items():
            if name not in state.elements:
                data = changed(
                    self.form, data, [Insert(self._place_of(name), self._new(name, own))]
                )
        whole = self.chain.wrap(data, residue=state.residue)
        yield Output(self.spec.file, whole, making.now)

    def refuse(self, contents: Contents, name: str) -> None:
        """Raise RefusedError where an element of that name can be neither replaced nor added."""
        if self.spec.beside and not self._is_own(name):
            return
        element, _ = self._told(name)
        state: _State = contents.state
        if element not in state.elements and not isinstance(self.form, Joining):
            raise RefusedError(
                f"{self.spec.file} has no {element}, and nothing can be added to "
                f"{self.form.title} as a whole.",
                advice="Make a throwaway save of that name in the game, then carry onto it.",
                in_game="there",
            )

    def _is_own(self, entry: str) -> bool:
        """Tell whether an entry of that name would be in the document, and no file beside it."""
        return (
            "/" not in entry
            if not self.spec.parts
            else (entry.rpartition("/")[2] in self.spec.parts)
        )

    def _told(self, entry: str) -> tuple[str, str]:
        """Return the element and the part of it that an entry's name means."""
        if not self.spec.parts:
            return entry, ""
        name, _, part = entry.rpartition("/")
        if part not in self.spec.parts:
            raise RefusedError(f"{self.spec.file} holds no {entry}.")
        return name, part

    def _place_of(self, name: str) -> str:
        """Return where a new element is put."""
        if self.spec.name is None:
            return f"{self.above}/{escaped(name)}"
        return f"{self.above}/-" if self.last == "*" else self.spec.entries

    @property
    def _top(self) -> str:
        """What leads into an element that stands alone: in XML, its tag."""
        return f"/{self.last}" if self.form.several else ""

    def _refuse_other_name(self, name: str, raw: bytes) -> None:
        """Raise RefusedError where an element that is put as it is names another."""
        if self.spec.name is None or self.spec.parts:
            return
        (nodes,) = nodes_in(self.form, BytesPayload(raw), [self._top + self.spec.name])
        told = [text_of(node.value) for node in nodes]
        if told != [name]:
            raise RefusedError(
                f"What is to be {name} in {self.spec.file} says {' and '.join(told) or 'nothing'} "
                f"at {self.spec.name}.",
                advice="Its recipe has to say that this place agrees with the name: see `agrees`.",
            )

    def _new(self, name: str, own: dict[str, bytes]) -> bytes:
        """Return a new element: the template with its name and parts, or the bytes themselves."""
        if self.spec.template is None:
            return own[""]
        source, places = self._places_in_template(own)
        values: list[tuple[Node, Single | bytes]] = [
            (node, _put(own[part], self.parts[part])) for part, node in places.items() if part
        ]
        if "" in places:
            values.append((places[""], _name_as(places[""], name)))
        return read_all(with_values(self.form, source, values), limit=_LARGEST, what=name)

    def _places_in_template(self, parts: Collection[str]) -> tuple[Payload, dict[str, Node]]:
        """Return the template, and where in it parts are put; '' is the element's name.

        Raises DamagedError where it is no such document, or has no such places.
        """
        source = BytesPayload((self.spec.template or "").encode())
        inner = {part: self.parts[part].at for part in parts}
        if self.spec.name is not None:
            inner[""] = self.spec.name
        found = nodes_in(self.form, source, [self._top + at for at in inner.values()])
        for at, nodes in zip(inner.values(), found, strict=True):
            if len(nodes) != 1:
                raise DamagedError(f"The template of {self.spec.file} has not one {at}.")
        return source, {part: nodes[0] for part, nodes in zip(inner, found, strict=True)}


def _within(place: str | None) -> str:
    return (place or "").removeprefix("/")


def _is_in(node: Node, holder: Node) -> bool:
    return holder.first <= node.start and node.end <= max(holder.last, holder.end)


def _bytes_of(data: Payload, node: Node, *, text: bool) -> bytes:
    if text:
        return text_of(node.value).encode()
    (was,) = spelled_in(data, [node])
    return was.spelled


def _put(raw: bytes, spec: PartSpec) -> Single | bytes:
    if not spec.text:
        return raw
    try:
        return raw.decode()
    except UnicodeDecodeError:
        raise RefusedError(
            "Bytes that are no text can't stand in a document as they are."
        ) from None


def _name_as(node: Node, name: str) -> Single:
    number = isinstance(node.value, int) and not isinstance(node.value, bool)
    return int(name) if number and name.isdecimal() else name
