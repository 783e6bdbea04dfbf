"""Which of the places are stood at, told while a document goes by once, however large it is."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from typing import NamedTuple

from msgspec import Struct, field

from clever_ferry.documents.form import First
from clever_ferry.documents.nodes import Node
from clever_ferry.documents.places import COUNT, EVERY, Choice, Step, text_of

__all__ = ["Matcher", "Wanted"]


class _Way(NamedTuple):
    """How far one place has been followed, and where what stands at its end is put."""

    steps: Sequence[Step]
    at: int
    found: list[Node]


class _Chosen(NamedTuple):
    """One of several like elements that may turn out to be the one that a place chooses."""

    choice: Choice
    said: list[Node]
    found: list[Node]
    into: list[Node]


class _Move(NamedTuple):
    """How one way goes on into an element of some name."""

    way: int
    """Which of those that led to what the element is in."""
    at: int
    """How far it has then been followed."""
    choice: Choice | None = None
    """What the element must have in it."""
    number: str = ""
    """Which of several like elements it must be; `#` where they are counted."""


class _Moves(NamedTuple):
    """What an element of some name that begins is asked for."""

    moves: tuple[_Move, ...]
    counted: bool
    """Whether it matters how many of that name have begun before."""
    value: bool
    """Whether something is asked for even if nothing is in it."""


class Wanted(NamedTuple):
    """What makes elements of a name be asked for that begin from here on."""

    texts: frozenset[str]
    """One of these must stand in one; without any, none of them is asked for."""
    most: int | None
    """How many are so at the most, before one is asked for by its number; None without end."""
    counted: bool
    """Whether it matters how many there are."""


class _State:
    """Ways that have been followed so far, as of one element; there are few of these."""

    def __init__(self, ways: Sequence[tuple[Sequence[Step], int]]) -> None:
        self._ways = ways
        self.ends = tuple(one for one, (steps, at) in enumerate(ways) if at == len(steps))
        """Which of the ways end with the element itself."""
        self._moves: dict[str, _Moves] = {}
        whole = [
            steps[at] for steps, at in ways if at < len(steps) and (
                at + 1 == len(steps) or steps[at + 1] is EVERY or steps[at + 1] is COUNT
                or (isinstance(steps[at + 1], str) and str(steps[at + 1]).isdecimal())
            )
        ]  # fmt: skip
        names = frozenset(step for step in whole if isinstance(step, str))
        self.values = names if len(names) == len(set(whole)) and not self.ends else None
        """The names that are asked for even if nothing is in them; None where all may be."""

    def moves(self, name: str) -> _Moves:
        """Return how the ways go on into an element of a name."""
        known = self._moves.get(name)
        if known is None:
            found = tuple(move for one in range(len(self._ways)) for move in self._of(one, name))
            value = any(
                move.number == "#" or move.at == len(self._ways[move.way][0])
                for move in found if move.choice is None
            )  # fmt: skip
            counted = any(move.number for move in found)
            known = self._moves[name] = _Moves(found, counted, value or counted)
        return known

    def _of(self, one: int, name: str) -> Iterator[_Move]:
        steps, at = self._ways[one]
        step = steps[at] if at < len(steps) else None
        if step is EVERY:
            yield _Move(one, at + 1)
        elif isinstance(step, Choice):
            yield _Move(one, at + 1, step)
        elif step is not None and step == name:
            yield _Move(one, at + 1)
            after = steps[at + 1] if at + 1 < len(steps) else None
            if after is EVERY:
                yield _Move(one, at + 2)
            elif isinstance(after, Choice):
                yield _Move(one, at + 2, after)
            elif after is COUNT and at + 2 == len(steps):
                yield _Move(one, at + 2, number="#")
            elif isinstance(after, str) and after.isdecimal():
                yield _Move(one, at + 2, number=str(int(after)))


class _Open(Struct):
    """An element that has begun and not yet ended."""

    ways: list[_Way]
    state: _State
    chosen: list[_Chosen]
    like: dict[str, int] = field(default_factory=dict)
    """How many of each name have begun right within it, where that matters."""
    counts: list[tuple[str, list[Node]]] = field(default_factory=list)
    """Which of these are counted, and where the number is put."""


class Matcher:
    """Follows places through elements that begin and end; names may stand several times.

    After such a name, a number chooses one of the like elements (from 0), `#` counts them, `*` is
    each of them and each that is in them, and `[place=value]` chooses among them and among what
    is in them.
    """

    def __init__(self, places: Sequence[Sequence[Step]], most: int | None = None) -> None:
        """Of more than `most` nodes at one place, the others are only counted."""
        self._found: list[list[Node]] = [[] if most is None else _Few(most) for _ in places]
        self._states: dict[tuple[tuple[int, int], ...], _State] = {}
        ways = [_Way(steps, 0, into) for steps, into in zip(places, self._found, strict=True)]
        self._open = [_Open(ways, self._state(ways), [])]

    def _state(self, ways: Sequence[_Way]) -> _State:
        key = tuple([(id(way.steps), way.at) for way in ways])
        state = self._states.get(key)
        if state is None:
            state = self._states[key] = _State([(way.steps, way.at) for way in ways])
        return state

    @property
    def idle(self) -> bool:
        """Whether nothing in the innermost open element can be asked for."""
        return not self._open[-1].ways

    @property
    def values(self) -> frozenset[str] | None:
        """The names in the innermost open element that count without anything in them, if few."""
        return self._open[-1].state.values

    def only_by(self, name: str) -> Wanted | None:
        """Return what must stand in an element that begins now, to be asked for.

        None where it may be asked for without. It is names of what stands right within, and
        values by which like elements are chosen.
        """
        above = self._open[-1]
        texts: list[str] = []
        moves, counted, _ = above.state.moves(name)
        begins, most = above.like.get(name, -1) + 1, None
        for one, at, choice, number in moves:
            steps = above.ways[one].steps
            if number and number != str(begins):
                if number != "#" and int(number) > begins:
                    most = min(int(number) - begins, most or int(number))
                continue  # another of its like is asked for, or how many there are
            step = choice or (steps[at] if at < len(steps) else None)
            text = step.value if isinstance(step, Choice) else step if isinstance(step, str) else ""
            if not text:
                return None
            texts.append(text)
            most = 1 if number else most
        return Wanted(frozenset(texts), most, counted)

    def pass_over(self, name: str, count: int = 1) -> None:
        """Elements of one name begin and end in which nothing is asked for."""
        self.enter(name)
        self._open.pop()
        above = self._open[-1]
        if name in above.like:
            above.like[name] += count - 1

    def wants_value(self, name: str) -> bool:
        """Tell that of one that has nothing in it but its value."""
        above = self._open[-1]
        return above.state.moves(name).value or bool(above.state.ends)

    def enter(self, name: str) -> None:
        """An element begins."""
        above = self._open[-1]
        moves, counted, _ = above.state.moves(name)
        if counted or above.state.ends:
            above.like[name] = above.like.get(name, -1) + 1
        if not moves:
            self._open.append(_IDLE)
            return
        ways: list[_Way] = []
        chosen: list[_Chosen] = []
        for one, at, choice, number in moves:
            way = above.ways[one]
            if choice is not None:
                pending = _Chosen(choice, [], [], way.found)
                chosen.append(pending)
                ways += [_Way(choice.steps, 0, pending.said), _Way(way.steps, at, pending.found)]
            elif not number:
                ways.append(_Way(way.steps, at, way.found))
            elif number == "#":
                if not above.like[name]:
                    above.counts.append((name, way.found))
            elif number == str(above.like[name]):
                ways.append(_Way(way.steps, at, way.found))
        self._open.append(_Open(ways, self._state(ways), chosen) if ways else _IDLE)

    def leave(self, node: Node) -> None:
        """The innermost open element ends; `node` is what it is, where it is asked for."""
        ended = self._open.pop()
        if ended.like and node.inner is not None:
            node.tags = tuple(ended.like)
        for name, found in ended.counts:
            found.append(Node(node.end, node.end, ended.like[name] + 1))
        for one in ended.state.ends:
            ended.ways[one].found.append(node)
        for pending in ended.chosen:
            said = [text_of(each.value) for each in pending.said if each.inner is None]
            if said == [pending.choice.value]:
                pending.into.extend(pending.found)

    def end(self, node: Node) -> list[list[Node]]:
        """Return for each place what stands there, in order; `node` is the whole document."""
        self.leave(node)
        return [sorted(found, key=lambda one: (one.start, -one.end)) for found in self._found]

    def first(self, node: Node) -> list[First]:
        """Return the first of those at each place, in order, and how many there are."""
        every = zip(self.end(node), self._found, strict=True)
        return [First(nodes, len(nodes) + getattr(found, "beyond", 0)) for nodes, found in every]


class _Few(list[Node]):
    """The first nodes of many; those beyond are counted."""

    def __init__(self, most: int) -> None:
        super().__init__()
        self._most, self.beyond = most, 0

    def append(self, node: Node) -> None:
        """Keep a node if there is room."""
        if len(self) < self._most:
            super().append(node)
        else:
            self.beyond += 1

    def extend(self, nodes: Iterable[Node]) -> None:
        """Keep some nodes as far as there is room."""
        for node in nodes:
            self.append(node)


_IDLE = _Open([], _State(()), [])
