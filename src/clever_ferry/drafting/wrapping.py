"""What a study has found around files of one kind, as layers and layouts of a recipe."""

from __future__ import annotations

import zlib
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, NamedTuple

from clever_ferry.studying.budget import Budget
from clever_ferry.studying.guess import Guess, Place
from clever_ferry.studying.heads import guess_straight
from clever_ferry.studying.peeling import Step
from clever_ferry.studying.study import StageStudied

__all__ = ["Wrapped", "constants", "fields_of", "wrapped"]

_WIDTHS = (8, 4, 2, 1)


@dataclass
class Wrapped:
    """Layers from outside in, the layouts that they name, and what is in doubt."""

    layers: list[dict[str, Any]] = field(default_factory=list)
    layouts: dict[str, list[dict[str, Any]]] = field(default_factory=dict)
    notes: dict[str, list[str]] = field(default_factory=dict)
    """By layout, a remark for each of its fields; '' for none."""
    doubts: list[str] = field(default_factory=list)
    whole: bool = True
    """Whether all that was found could be said; else what comes out is not the innermost."""
    inner: dict[str, list[dict[str, Any]]] = field(default_factory=dict)
    """The layers of each chunk, by what they are called."""
    begins: dict[tuple[int, bool], int] = field(default_factory=dict)
    """By stage, and whether within what is around it, how many layers stand in front of it."""
    named: set[int] = field(default_factory=set)

    def name_stage(self, number: int, *, within: bool) -> str:
        """Have a stage's bytes be called by a name that others can say, and return that."""
        at = self.begins[number, within]
        self.named.add(at)
        return f"bytes-{at}"

    @property
    def steps(self) -> list[dict[str, Any]]:
        """The layers, and the names of stages that others speak of."""
        found: list[dict[str, Any]] = []
        for at, layer in enumerate(self.layers):
            if at in self.named:
                found.append({"kind": "stage", "name": f"bytes-{at}"})
            found.append(layer)
        return found


def wrapped(
    role: str, stages: Sequence[StageStudied], samples: Sequence[Sequence[bytes]],
    names: Mapping[str, str], firsts: Mapping[str, int],
) -> Wrapped:  # fmt: skip
    """Return the layers of a piece.

    `samples` are the files' bytes at each stage; `names` gives the recipe's name fields by how the
    study called them, `firsts` what numbers in names count from.
    """
    found = Wrapped()
    count = 0
    for number, stage in enumerate(stages):
        step = stage.step
        found.begins[number, False] = len(found.layers)
        if step is None:
            break
        if step.kind == "xor" and step.key is not None:
            data = step.key.data
            spelled = {"text": data.decode()} if _is_plain(data) else {"hex": data.hex()}
            more = {"step": step.key.step} if step.key.step else {}
            found.layers.append({"kind": "xor", **spelled, **more})
            continue
        if step.kind in ("hex", "base64"):
            found.layers.append({"kind": step.kind})
            continue
        count += 1
        if step.kind == "chunks":
            inner = _chunked(step, samples[number], samples[number + 1])
            if inner is None:
                found.doubts.append(f"the {role} is packed in pieces whose sizes are not clear")
                found.whole = False
                break
            most, fields, level = inner
            layout = f"chunk-{count}"
            found.layouts[layout], found.notes[layout] = fields.fields, fields.notes
            found.inner[layout] = [{"kind": step.inner, **({"level": level} if level else {})}]
            found.layers.append(
                {"kind": "chunks", "most": most, "layout": layout, "within": layout}
            )
            continue
        layers, layouts = list(found.layers), dict(found.layouts)
        if not _around(found, role, count, step, stage, names, firsts):
            found.layers, found.layouts = layers, layouts
            found.whole = False
            break
        found.begins[number, True] = len(found.layers)
        if step.kind != "header":
            level = _level(step, samples[number], samples[number + 1])
            found.layers.append({"kind": step.kind, **({"level": level} if level else {})})
        if any(_of(one) == "next" for one in (*stage.front, *stage.back)):
            found.layers.append({"kind": "stage", "name": f"inside-{count}"})
    return found


def _chunked(
    step: Step, outside: Sequence[bytes], inside: Sequence[bytes]
) -> tuple[int, Fields, int | None] | None:
    """Return how many bytes are in a chunk, what stands before each, and how it is packed.

    None where something stands before or behind all of them, or nothing says how long each is.
    """
    fronts: list[bytes] = []
    bodies: list[dict[str, bytes]] = []
    sizes: list[list[int]] = []
    for raw, plain, chunks in zip(outside, inside, step.chunks, strict=True):
        at = end = 0
        for begin, stop, size in chunks:
            fronts.append(raw[end:begin])
            bodies.append({"inside": raw[begin:stop], "payload": plain[at : at + size]})
            at, end = at + size, stop
        if end != len(raw):
            return None
        sizes.append([size for _, _, size in chunks])
    full = {size for own in sizes for size in own[:-1]}
    width = {len(one) for one in fronts}
    if len(full) != 1 or len(width) != 1 or max(own[-1] for own in sizes) > (most := full.pop()):
        return None
    known = Place(
        {name: tuple(len(one[name]) for one in bodies) for name in ("inside", "payload")},
        {}, {}, {}, (0,) * len(fronts),
    )  # fmt: skip
    guesses = guess_straight(fronts, bodies, known, Budget(10), width.pop())
    if not any(dict(one.spec).get("computed", {}).get("of") == "inside" for one in guesses):
        return None
    made = fields_of(guesses, "chunk", {}, {})
    if made.lost:
        return None
    chunk = Step(step.inner, (b"",), (b"",))
    level = _level(chunk, [bodies[0]["inside"]], [bodies[0]["payload"]])
    return most, made, level


def _is_plain(data: bytes) -> bool:
    return data.isascii() and data.decode().isprintable()


def _of(guess: Guess) -> str:
    computed = guess.spec.get("computed", {})
    return str(computed.get("of", ""))


def _around(
    found: Wrapped, role: str, count: int, step: Step, stage: StageStudied,
    names: Mapping[str, str], firsts: Mapping[str, int],
) -> bool:  # fmt: skip
    """Add what stands before and behind packed bytes; False where that can't be said."""
    if any(step.backs):
        size = len(step.backs[0])
        fields = _fields(found, role, f"end-{count}", stage.back, size, names, firsts)
        if fields is None or len({len(one) for one in step.backs}) > 1:
            found.doubts.append(f"what stands behind the packed {role} is not clear")
            return False
        layer = {"kind": "footer", "layout": f"end-{count}", "size": size}
        found.layers.append({**layer, **_arriving(fields)})
    if step.mark and len({len(one) for one in step.fronts}) > 1:
        found.layers.append({"kind": "after", "text": step.mark.decode()})
        return True
    if any(step.fronts):
        size = len(step.fronts[0])
        fields = _fields(found, role, f"front-{count}", stage.front, size, names, firsts)
        if fields is None:
            found.doubts.append(f"the front of the {role} is of a build that is not clear")
            return False
        found.layers.append({"kind": "header", "layout": f"front-{count}", **_arriving(fields)})
    return True


def _arriving(fields: Sequence[Mapping[str, Any]]) -> dict[str, Any]:
    """Return that times of fields are new where the source's files have none."""
    times = [one["name"] for one in fields if one["type"] == "time"]
    return {"on_arrival": {name: ["kept", "made"] for name in times}} if times else {}


def _fields(
    found: Wrapped, role: str, layout: str, guesses: Sequence[Guess], size: int,
    names: Mapping[str, str], firsts: Mapping[str, int],
) -> list[dict[str, Any]] | None:  # fmt: skip
    straight = not any(one.behind for one in guesses)
    if straight and sum(one.size for one in guesses) != size:
        return None
    made = fields_of(guesses, layout.partition("-")[2], names, firsts)
    unknown = [str(one["name"]) for one in made.lost if one["type"] != "time"]
    if unknown:
        lost = ", ".join(unknown[:4])
        found.doubts.append(
            f"what stands in front of the {role} has bytes that differ and are not clear "
            f"({lost}): a crossing takes them from the save that it replaces, and "
            "is refused where there is none"
        )
    found.layouts[layout] = made.fields
    found.notes[layout] = made.notes
    return made.fields


class Fields(NamedTuple):
    """Fields of a layout with their remarks, and those that no new header knows."""

    fields: list[dict[str, Any]]
    notes: list[str]
    lost: list[dict[str, Any]]


def fields_of(
    guesses: Sequence[Guess], count: str, names: Mapping[str, str], firsts: Mapping[str, int]
) -> Fields:
    """Return guesses as a layout's fields, all with names; `count` is that of the next stage."""
    fields: list[dict[str, Any]] = []
    notes: list[str] = []
    used: set[str] = set()
    for one in guesses:
        for spec, note in _spelled(one, count, names, firsts):
            if spec["type"] not in ("magic", "padding"):
                wanted = spec.pop(
                    "name", f"at_{one.behind}_{one.at}" if one.behind else f"at_{one.at}"
                )
                name, more = wanted, 2
                while name in used:
                    name, more = f"{wanted}_{more}", more + 1
                used.add(name)
                spec = {"type": spec.pop("type"), "name": name, **spec}
            fields.append(spec)
            notes.append(note)
    return Fields(fields, notes, [one for one in fields if not _is_known(one)])


def _spelled(
    guess: Guess, count: str, names: Mapping[str, str], firsts: Mapping[str, int]
) -> list[tuple[dict[str, Any], str]]:
    """Return a guess as fields of a layout, with a remark for each."""
    spec = {key: value for key, value in guess.spec.items() if key != "bound"}
    values = " | ".join(guess.values[:3])
    sure = "" if guess.sure else "likely, no more: "
    if guess.kind == "mark":
        return [(spec, "")]
    if guess.kind == "zeros":
        return [({"type": "padding", "size": guess.size}, "zeros in all")]
    if guess.kind == "same":
        return constants(guess)
    if guess.kind in ("size", "checksum") and spec.get("computed"):
        computed = dict(spec["computed"])
        if computed["of"] == "next":
            more = {key: one for key, one in computed.items() if key == "plus"}
            stage = f"inside-{count}"
            computed = {"what": computed["what"], "at_stage": stage, **more}
        kind = {"payload": "plain", "inside": "packed"}.get(
            str(guess.spec["computed"]["of"]), "other"
        )
        name = f"{kind}_size" if guess.kind == "size" else str(computed["what"]).replace("-", "_")
        return [({**spec, "name": name, "computed": computed}, f"{sure}{guess.says}: {values}")]
    bound = str(guess.spec.get("bound", ""))
    if guess.kind == "name" and bound in names:
        own = names[bound]
        plus = int(spec.pop("plus", 0)) + firsts.get(own, 1) - 1
        more = {"plus": plus} if plus and spec["type"].startswith("u") else {}
        return [({**spec, "name": own, "bound": own, **more}, f"{sure}{guess.says}")]
    if guess.kind == "text" and len(set(guess.values)) == 1 and "size" in spec:
        return [({**spec, "name": f"text_{guess.at}", "usual": guess.values[0]}, "the same in all")]
    if guess.kind in ("time", "text", "number") and spec.get("type"):
        return [({**spec, "name": f"{guess.kind}_{guess.at}"}, f"{sure}{guess.says}: {values}")]
    return [
        ({"type": "bytes", "size": guess.size}, f"{guess.says}: {values}; not known what it is")
    ]


def _is_known(field: Mapping[str, Any]) -> bool:
    """Tell whether a new header's field follows from what is known."""
    return field["type"] in ("magic", "padding") or bool(
        {"computed", "bound", "usual"} & field.keys()
    )


def constants(guess: Guess) -> list[tuple[dict[str, Any], str]]:
    """Return what is the same in all as numbers, which are written so where none is known."""
    raw = guess.raw
    found: list[tuple[dict[str, Any], str]] = []
    at = 0
    while at < len(raw):
        width = next(one for one in _WIDTHS if at + one <= len(raw))
        usual = int.from_bytes(raw[at : at + width], "little")
        spec = {"type": f"u{8 * width}", "name": f"at_{guess.at + at}", "usual": usual}
        if width > 1:
            spec["order"] = "little"
        found.append((spec, "the same in all" if not at else ""))
        at += width
    return found


def _level(step: Step, outside: Sequence[bytes], inside: Sequence[bytes]) -> int | None:
    """Return the level by which a compressor gives the very bytes; None where none does."""
    at = min(range(len(outside)), key=lambda one: len(outside[one]))
    front = len(step.fronts[at]) if step.fronts else 0
    back = len(step.backs[at]) if step.backs else 0
    packed = outside[at][front : len(outside[at]) - back]
    if step.kind == "bzip2" and packed[3:4].isdigit():
        return int(packed[3:4])
    body = {"zlib": packed[2:-4], "gzip": packed[10:-8], "deflate": packed}.get(step.kind)
    if body is None:
        return None
    for level in (6, 9, 1, 2, 3, 4, 5, 7, 8):
        writer = zlib.compressobj(level, zlib.DEFLATED, -15)
        if writer.compress(inside[at]) + writer.flush() == body:
            return level
    return None
