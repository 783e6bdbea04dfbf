"""A table that was found in bytes, as layouts of a recipe: its rows, what is before and behind."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, NamedTuple

from msgspec.structs import replace

from clever_ferry.drafting.wrapping import constants
from clever_ferry.layouts.digests import DIGEST_BYTES
from clever_ferry.studying.budget import Budget
from clever_ferry.studying.checksums import WIDTHS, digest
from clever_ferry.studying.fields import time_in_table
from clever_ferry.studying.guess import Guess, Place
from clever_ferry.studying.heads import guess_straight
from clever_ferry.studying.rows import NUMBERS, Column, Rows, cells, number_in

__all__ = [
    "Bytes",
    "Laid",
    "Reserved",
    "Roles",
    "front_fields",
    "laid",
    "record_fields",
    "tail_fields",
]

Reserved = tuple[int, dict[str, Any]]
"""Where a field begins that is known already, and the field."""
_MOST_WAYS, _MOST_ROWS = 8, 64
_ROW_ROLES = {"size": "size", "checksum": "check", "time": "stamp", "text": "text"}


@dataclass
class Laid:
    """The fields of one layout, with a remark for each."""

    fields: list[dict[str, Any]] = field(default_factory=list)
    notes: list[str] = field(default_factory=list)
    unclear: int = 0
    """How many bytes of it differ and are not known."""
    dense: bool = False
    """Whether some that are not known have hardly a zero, as checksums have."""

    def add(self, spec: Mapping[str, Any], note: str = "") -> str:
        """Add a field by a name that no other has, and return that."""
        if spec["type"] in ("magic", "padding"):
            self.fields.append(dict(spec))
            self.notes.append(note)
            return ""
        taken = {str(one.get("name")) for one in self.fields}
        wish = str(spec.get("name", "at"))
        name = wish
        for more in range(2, 1000):
            if name not in taken:
                break
            name = f"{wish}_{more}"
        rest = {key: one for key, one in spec.items() if key not in ("type", "name")}
        self.fields.append({"type": spec["type"], "name": name, **rest})
        self.notes.append(note)
        return name

    def append(self, other: Laid) -> None:
        """Add another's fields behind its own."""
        for spec, note in zip(other.fields, other.notes, strict=True):
            self.add(spec, note)
        self.unclear += 2 * other.unclear  # nobody leaves bytes behind a table

    @property
    def order(self) -> str:
        """The order of its numbers' bytes, where they have one."""
        own = {str(one["order"]) for one in self.fields if "order" in one and "usual" not in one}
        return own.pop() if len(own) == 1 else ""

    @property
    def cost(self) -> float:
        """How much of it is not understood, in bytes; constants count a quarter."""
        same = sum(_width(one) for one in self.fields if "usual" in one)
        return self.unclear + 0.25 * same


@dataclass
class Roles:
    """What a record's fields are for a box, by their names."""

    name: str = ""
    size: str = ""
    stamp: tuple[str, str] = ("", "")
    """And its unit."""
    check: tuple[str, str] = ("", "")
    """And which checksum it is."""
    rows: str = ""
    """Its list of parts."""
    part_size: str = ""
    part_check: tuple[str, str] = ("", "")


class Bytes(NamedTuple):
    """What rows speak of: of each row how large it is and when it was changed (ns)."""

    sizes: Sequence[int] = ()
    stamps: Sequence[int] = ()
    data: Mapping[int, bytes] = {}
    """The bytes themselves, of as many rows as were read."""

    @classmethod
    def of(cls, data: Sequence[bytes], stamps: Sequence[int]) -> Bytes:
        """Return bytes of which all are at hand."""
        return cls([*map(len, data)], stamps, dict(enumerate(data)))


def laid(
    rows: Sequence[bytes], of: Bytes, reserved: Sequence[Reserved], budget: Budget,
    sizes: Mapping[str, Sequence[int]] | None = None, texts: Mapping[str, str] | None = None,
    *, front: bool = False, order: str = "",
) -> Iterator[tuple[dict[str, Any], str, Guess | None]]:  # fmt: skip
    """Yield the fields of what has one size in all rows, with a remark, and what it was guessed by.

    `sizes` are numbers that may stand in it, by what they are; `texts` are names around it.
    """
    size = len(rows[0])
    if len(of.stamps) != len(rows):  # not each row has something of its own
        of, sizes = Bytes(), {}
    every = rows
    step = -(-len(every) // _MOST_ROWS)
    chosen = sorted(of.data)[:_MOST_ROWS] or range(0, len(every), step)
    rows = [every[at] for at in chosen]
    stamps = [of.stamps[at] if of.stamps else 0 for at in chosen]
    known = Place(
        {name: tuple(one[at] for at in chosen) for name, one in (sizes or {}).items()}, {},
        {name: (one,) * len(rows) for name, one in (texts or {}).items()}, {}, tuple(stamps),
    )  # fmt: skip
    bodies = [{"inside": of.data[at]} if of.data else {} for at in chosen]
    if front:
        found = guess_straight(rows, bodies, known, budget, size)
    else:
        found = [
            one for begin, end in _between(reserved, size)
            for one in _guessed([row[begin:end] for row in rows], begin, bodies, known, budget)
        ]  # fmt: skip
    known_kinds = {*_ROW_ROLES, "mark", "name"}
    ends = {at: at + _width(spec) for at, spec in reserved}
    specs = dict(reserved)
    at = 0
    while at < size:
        if at in specs:
            yield specs[at], "", None
            at = ends[at]
            continue
        upto = min([one for one in specs if one > at], default=size)
        guess = next(one for one in found if one.at <= at < one.at + one.size)
        end = min(upto, guess.at + guess.size)
        if guess.kind == "text" and guess.at == at:
            end = _end_of_text(every, at, end)
            guess = replace(guess, size=end - at, spec={**guess.spec, "size": end - at})
        known_at = [one.at for one in found if one.at > at and one.kind in known_kinds]
        unclear = min([upto, *known_at])
        early = None
        if guess.kind not in known_kinds and of.stamps:
            early = _time(every, at, unclear, of, order)
        if early is not None:
            if early.at > at:
                yield from _plain([one[at : early.at] for one in every], at)
            yield dict(early.spec), early.says, early
            at = early.at + early.size
            continue
        if (guess.at, guess.at + guess.size) == (at, end) and guess.kind in known_kinds:
            yield dict(guess.spec), guess.says, guess
        else:
            yield from _plain([one[at:end] for one in every], at)
        at = end


def _between(reserved: Sequence[Reserved], size: int) -> Iterator[tuple[int, int]]:
    """Yield where what is not known yet begins and ends."""
    at = 0
    for begin, spec in sorted(reserved, key=lambda one: one[0]):
        if begin > at:
            yield at, begin
        at = begin + _width(spec)
    if at < size:
        yield at, size


def _guessed(
    cut: Sequence[bytes], begin: int, bodies: Sequence[dict[str, bytes]], known: Place,
    budget: Budget,
) -> list[Guess]:  # fmt: skip
    """Return what some bytes of all rows are; a text may begin with the first of them."""
    led = [b"\0" + one for one in cut]
    return [
        replace(one, at=max(0, one.at - 1) + begin, size=one.size - (one.at == 0))
        for one in guess_straight(led, bodies, known, budget, len(led[0]))
        if one.at or one.size > 1
    ]


def _end_of_text(rows: Sequence[bytes], at: int, end: int) -> int:
    """Return where a text ends that is filled up: at a multiple of four bytes, where it can.

    What fills it up, and the high bytes of a number behind it, are both zeros.
    """
    own = end - (end - at) % 4
    return own if own > at and not any(any(one[own:end]) for one in rows) else end


def _time(rows: Sequence[bytes], at: int, upto: int, of: Bytes, order: str) -> Guess | None:
    """Return a time in what nothing else is known of, of several rows."""
    if len(rows) < 2:
        return None
    found = time_in_table([one[at:upto] for one in rows], of.stamps, order)
    return replace(found, at=found.at + at) if found is not None else None


def _plain(parts: Sequence[bytes], at: int) -> Iterator[tuple[dict[str, Any], str, Guess | None]]:
    raw = parts[0]
    if len(set(parts)) == 1 and len(parts) > 1:
        for spec, note in constants(Guess(at, len(raw), "same", "", (), raw=raw)):
            yield spec, note, None
        return
    kind = "same" if len(parts) == 1 else "differs"
    says = "not known" if len(parts) == 1 else "differs; not known what it is"
    spec = {"type": "bytes", "size": len(raw), "name": f"at_{at}"}
    yield spec, says, Guess(at, len(raw), kind, says, ())


def _width(spec: Mapping[str, Any]) -> int:
    return int(spec.get("size") or int(spec["type"][1:]) // 8)


# Rows -----------------------------------------------------------------------------------------


def record_fields(
    rows: Rows, raws: Sequence[bytes], known: dict[str, Any], of: Bytes,
    parts: Bytes, reserved: Mapping[int, Sequence[Reserved]], part_layout: str, budget: Budget,
    order: str = "",
) -> tuple[Laid, Laid, Roles]:  # fmt: skip
    """Return the layouts of a record, and of one of its parts, and what is what in it.

    `known` is the field that the rows were found around; `reserved` are fields that are known, by
    the number of the column that they stand in.
    """
    found, inner, roles = Laid(), Laid(), Roles()
    every = [
        (raw, start, cells(rows.columns, raw, start, end) or [])
        for raw, own, last in zip(raws, rows.starts, rows.ends, strict=True)
        for start, end in zip(own, _ends(rows, raw, own, last), strict=True)
    ]
    for number, column in enumerate(rows.columns):
        spans = [
            (raw, ends[number - 1] if number else start, ends[number]) for raw, start, ends in every
        ]
        cut = [raw[begin:end] for raw, begin, end in spans]
        if column.kind == "known":
            found.add(known)
        elif column.kind == "text":
            name = found.add({"type": "text", "name": "text", **column.spec})
            if not roles.name and _tells_apart(spans, cut):
                roles.name = name
        elif column.kind == "rest":
            if any(cut):
                found.add({"type": "bytes", "name": "tail", "size": "rest"}, "not known what it is")
                found.unclear += max(map(len, cut))
        elif column.kind == "list":
            elements = _elements(spans, column)
            for spec, note, guess in laid(elements, parts, (), budget, {"inside": parts.sizes}):
                name = _add(inner, spec, note, guess)
                if guess is not None and guess.kind == "size" and not roles.part_size:
                    roles.part_size = name
                elif guess is not None and guess.kind == "checksum":
                    roles.part_check = roles.part_check if roles.part_check[0] else (
                        name, str(guess.spec["computed"]["what"])
                    )  # fmt: skip
            roles.rows = found.add(
                {"type": "list", "name": "parts", "of": part_layout, "count": _counted(column.spec)}
            )
        else:
            sizes = {"inside": of.sizes}
            own = reserved.get(number, ())
            for spec, note, guess in laid(cut, of, own, budget, sizes, order=order):
                name = _add(found, spec, note, guess)
                if guess is not None:
                    part = [one[guess.at : guess.at + guess.size] for one in cut]
                    _take(roles, name, guess, apart=_tells_apart(spans, part))
    _rename(found, roles)
    return found, inner, roles


def _ends(rows: Rows, raw: bytes, starts: Sequence[int], last: int) -> list[int]:
    """Return where each row of one table ends; -1 where its columns say so themselves."""
    if rows.frame is None:
        return [-1] * len(starts)
    frames = []
    for start in starts[1:]:
        widths = (1, 2, 3) if rows.frame["type"] == "varint" else (_width(rows.frame),)
        frames.append(next(
            start - one for one in widths
            if (told := number_in(raw, start - one, rows.frame)) is not None and told[1] == start
        ))  # fmt: skip
    return [*frames, last]


def _elements(spans: Sequence[tuple[bytes, int, int]], column: Column) -> list[bytes]:
    found = []
    for raw, begin, end in spans:
        told = number_in(raw, begin, column.spec)
        assert told is not None
        found += [raw[at : at + column.size] for at in range(told[1], end, column.size)]
    return found


def _counted(spec: Mapping[str, Any]) -> Any:
    """Return a count's type as a recipe says it, by its name alone where that is enough."""
    plain = spec.get("order", "little") == "little"
    return spec["type"] if plain else dict(spec)


def _add(found: Laid, spec: Mapping[str, Any], note: str, guess: Guess | None) -> str:
    more = {key: one for key, one in spec.items() if key not in ("computed", "bound")}
    if guess is not None and guess.kind == "time":
        more = {"type": spec["within"], "order": spec["order"]}
    if guess is not None and guess.kind in ("differs", "same", "mark", "name"):
        found.unclear += guess.size
        more = {"type": "bytes", "size": guess.size}
    wish = _ROW_ROLES.get(guess.kind, "") if guess is not None else ""
    return found.add({"name": wish or f"at_{guess.at if guess else 0}", **more}, note)


def _take(roles: Roles, name: str, guess: Guess, *, apart: bool) -> None:
    """Note what a field is for the box, where nothing is that yet."""
    if guess.kind == "size" and not roles.size and not guess.spec["computed"].get("plus"):
        roles.size = name
    elif guess.kind == "time" and not roles.stamp[0]:
        roles.stamp = name, str(guess.spec["unit"])
    elif guess.kind == "checksum" and guess.spec.get("computed", {}).get("of") == "inside":
        roles.check = roles.check if roles.check[0] else (name, str(guess.spec["computed"]["what"]))
    elif guess.kind == "text" and not roles.name:
        roles.name = name if apart else ""


def _tells_apart(spans: Sequence[tuple[bytes, int, int]], values: Sequence[bytes]) -> bool:
    """Tell whether no two rows of one table have the same value, and not all rows one."""
    every = {(id(raw), value) for (raw, _, _), value in zip(spans, values, strict=True)}
    return len(every) == len(values) and len(set(values)) > 1


def _rename(found: Laid, roles: Roles) -> None:
    """Have the field that names an entry be called so."""
    for one in found.fields:
        if roles.name and one.get("name") == roles.name:
            one["name"] = roles.name = "name"
            return


# What stands before and behind them -----------------------------------------------------------


def front_fields(
    raws: Sequence[bytes], rows: Rows, totals: Mapping[str, Sequence[int]],
    texts: Mapping[str, str], stamps: Sequence[int], budget: Budget, *, bodies: Sequence[bytes],
    order: str = "",
) -> tuple[Laid, Any, dict[str, tuple[str, str]]] | None:  # fmt: skip
    """Return what stands before the rows, how the rows are counted, and what is what in it.

    `totals` are sums that may stand there; `bodies` are what a checksum there may be of, called
    `inside`; `order` is that of the table's own numbers, where it is known. None where
    nothing says how many rows there are.
    """
    fronts = [raw[:begin] for raw, begin in zip(raws, rows.begins, strict=True)]
    counts = [len(one) for one in rows.starts]
    if len({len(one) for one in fronts}) > 1:
        return None
    ways: list[tuple[int, dict[str, Any]] | None] = [*_counts_at(fronts, counts, order)]
    if not ways and all(end == len(raw) for raw, end in zip(raws, rows.ends, strict=True)):
        ways = [None]
    made = [
        _front(fronts, one, rows, totals, texts, Bytes.of(bodies, stamps), budget)
        for one in ways[:_MOST_WAYS]
    ]
    return min(made, key=lambda one: one[0].cost, default=None)


def _front(
    fronts: Sequence[bytes], told: tuple[int, dict[str, Any]] | None, rows: Rows,
    totals: Mapping[str, Sequence[int]], texts: Mapping[str, str], of: Bytes, budget: Budget,
) -> tuple[Laid, Any, dict[str, tuple[str, str]]]:  # fmt: skip
    """Return a front whose count of rows stands at a byte."""
    found, roles = Laid(), dict[str, tuple[str, str]]()
    reserved: list[Reserved] = []
    how: Any = "rest"
    cut = fronts
    if told is not None:
        at, spec = told
        inline = rows.frame is not None and rows.frame["type"] == "varint"
        if spec["type"] == "varint" or (inline and at == len(fronts[0]) - 1):
            how, cut = "varint", [one[:at] for one in fronts]
        else:
            computed = {"what": "count", "of": "rows"}
            reserved.append((at, {**spec, "name": "count", "computed": computed}))
            how = "count"
    if cut[0]:
        for spec, note, guess in laid(cut, of, reserved, budget, totals, texts, front=True):
            _add_front(found, roles, spec, note, guess)
            if guess is not None and guess.kind in ("same", "differs"):
                raw = cut[0][guess.at : guess.at + guess.size]
                found.dense |= any(0 not in raw[at : at + 4] for at in range(len(raw) - 3))
    return found, how, roles


def _add_front(
    found: Laid, roles: dict[str, tuple[str, str]], spec: dict[str, Any], note: str,
    guess: Guess | None,
) -> None:  # fmt: skip
    if guess is None:
        found.add({"name": "at", **spec}, note)
        return
    if guess.kind == "mark":
        found.add(spec, note)
    elif guess.kind == "time":
        name = found.add({"type": spec["within"], "name": "written", "order": spec["order"]}, note)
        roles.setdefault("written", (name, str(spec["unit"])))
    elif guess.kind == "size" and not spec["computed"].get("plus"):
        plain = {key: one for key, one in spec.items() if key != "computed"}
        name = found.add({"name": "total", **plain}, note)
        roles.setdefault(str(spec["computed"]["of"]), (name, ""))
    elif guess.kind == "checksum" and spec.get("computed", {}).get("of") in (
        "inside", "onward", "before"
    ):  # fmt: skip
        what = str(spec["computed"]["what"])
        name = found.add({"name": what.replace("-", "_"), **spec}, note)
        roles.setdefault("check", (name, str(spec["computed"]["of"])))
    elif guess.kind == "name" and spec.get("bound", "").startswith("account"):
        found.add({"name": "owner", **spec}, note)
    else:
        found.add({"type": "bytes", "name": f"at_{guess.at}", "size": guess.size}, note)
        found.unclear += guess.size


def _counts_at(
    fronts: Sequence[bytes], counts: Sequence[int], order: str
) -> Iterator[tuple[int, dict[str, Any]]]:
    """Yield where the number of rows may stand, as which number: right before them, the widest."""
    numbers = [one for one in NUMBERS if not order or one.get("order", order) == order]
    for spec in numbers:
        width = 1 if spec["type"] == "varint" else _width(spec)
        for at in range(len(fronts[0]) - width, -1, -1):
            right_before = at + width == len(fronts[0])
            if (right_before or spec["type"] != "varint") and _says(fronts, at, spec, counts):
                yield at, dict(spec)


def _says(fronts: Sequence[bytes], at: int, spec: dict[str, Any], counts: Sequence[int]) -> bool:
    for front, count in zip(fronts, counts, strict=True):
        told = number_in(front, at, spec)
        if told is None or told[0] != count:
            return False
    return True


def tail_fields(raws: Sequence[bytes], ends: Sequence[int]) -> Laid | None:
    """Return what stands behind a table: nothing, a checksum of all before it, or bytes.

    None where it is not of one size in all of them.
    """
    found = Laid()
    tails = [raw[end:] for raw, end in zip(raws, ends, strict=True)]
    size = len(tails[0])
    if any(len(one) != size for one in tails):
        return None
    if not size:
        return found
    for what, width in WIDTHS.items():
        for order in [""] if what in DIGEST_BYTES else ["little", "big"]:
            if width == size and all(
                _spelled(digest(what, raw[:end]), width, order) == tail
                for raw, end, tail in zip(raws, ends, tails, strict=True)
            ):
                computed = {"what": what, "of": "before"}
                spec: dict[str, Any] = {"type": f"u{8 * width}", "order": order}
                if not order:
                    spec = {"type": "bytes", "size": width}
                elif width == 1:
                    spec = {"type": "u8"}
                found.add({"name": "sum", **spec, "computed": computed}, "of all before it")
                return found
    found.add({"type": "bytes", "name": "end", "size": size}, "not known what it is")
    found.unclear = size
    return found


def _spelled(value: int | bytes, width: int, order: str) -> bytes:
    return value if isinstance(value, bytes) else value.to_bytes(width, order)  # type: ignore[arg-type]
