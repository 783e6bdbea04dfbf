"""What a study found, on the terminal and as plain data."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

from msgspec import to_builtins
from rich.console import Console

from clever_ferry.cli.screen import console, counted, escape, heading, indented, size, table
from clever_ferry.forms.recognising import COMPRESSED
from clever_ferry.studying.guess import Guess
from clever_ferry.studying.peeling import Step
from clever_ferry.studying.streams import CHECKED
from clever_ferry.studying.study import KindStudied, StageStudied, Study, ValueFound

__all__ = ["print_study", "study_data", "told_stage", "told_step"]

_WORDS = {
    "text": "text", "json": "JSON, a text of names and values", "xml": "XML, a text of elements",
    "ini": "INI, a text of sections and values", "properties": "a text of names and values",
    "toml": "TOML, a text of tables", "yaml": "YAML, a text of names and values",
    "relaxed-json": "JSON with comments", "sqlite": "an SQLite database", "picture": "a picture",
    "zip": "a zip", "tar": "a tar archive", "archive": "an archive", "empty": "nothing",
}  # fmt: skip
_MOST_KINDS, _MOST_VALUES = 12, 3


def print_study(found: Study) -> None:
    """Print what was found, the kinds with the most files first."""
    out = console()
    for kind in found.kinds[:_MOST_KINDS]:
        _print_kind(out, kind)
    if len(found.kinds) > _MOST_KINDS:
        rest = counted(len(found.kinds) - _MOST_KINDS, "more kind") + " of files"
        out.print(f"… and {rest}; --json tells all, or name a folder further in.")
    for pair in found.alike[:5]:
        out.print(
            f"[good]The same within:[/] {escape(pair.first)} and {escape(pair.second)} "
            f"({size(pair.size)}).", soft_wrap=True,
        )  # fmt: skip
    there = {value.name for kind in found.kinds for value in kind.values}
    for name in dict.fromkeys(name for kind in found.kinds for name in kind.missing):
        if name not in there:
            out.print(f"[care]{escape(name)} stands nowhere[/] as it is shown.", soft_wrap=True)
    for note in found.notes:
        out.print(f"[care]Careful:[/] {escape(note)}.", soft_wrap=True)
    if found.stopped:
        out.print(
            f"[care]Stopped before all was looked at[/] ({escape(found.stopped)}): --seconds gives "
            "it more time.", soft_wrap=True,
        )  # fmt: skip
    out.print("[dim]✓ chance is as good as ruled out   ? likely, no more[/]")
    out.print(
        "Next: cferry draft FOLDER [OTHER EDITION'S FOLDER] -o my-game.toml writes that down as a "
        "recipe, by which saves can be carried.", soft_wrap=True,
    )  # fmt: skip


def _print_kind(out: Console, kind: KindStudied) -> None:
    sizes = [one.size for one in kind.samples]
    told = (
        size(sizes[0])
        if len(set(sizes)) == 1
        else f"{size(min(sizes))} to {size(max(sizes))}"
        if sizes
        else ""
    )
    some = f", {len(kind.samples)} looked at" if len(kind.samples) < len(kind.names.paths) else ""
    count = counted(len(kind.names.paths), "file")
    out.print(f"{heading(kind.names.pattern)}  [dim]{count}, {told}{some}[/]", soft_wrap=True)
    for name, values in kind.names.fields.items():
        every = list(dict.fromkeys(values))
        more = " …" if len(every) > 4 else ""
        out.print(f"  [dim]{{{name}}}: {escape(', '.join(every[:4]))}{more}[/]", soft_wrap=True)
    if any(one.cut for one in kind.samples):
        out.print(indented(
            "[care]Careful:[/] they are larger than what is looked at; only their beginnings "
            "were, so no sizes and checksums were looked for.", 2))  # fmt: skip
    for number, stage in enumerate(kind.stages):
        where = "As it lies" if number == 0 else told_stage(number, kind.stages)
        out.print(f"  [save]{where}:[/] {escape(_what(stage))}", soft_wrap=True)
        _print_guesses(out, stage.front, 0)
        for line in _step_lines(stage):
            out.print(indented(line, 4))
        _print_guesses(out, stage.back, 1)
        for stream in stage.within[:5]:
            where = f"from byte {stream.start:,} to {stream.end:,}"
            out.print(
                f"    packed with {stream.kind} {where}: {stream.size:,} bytes", soft_wrap=True
            )
    _print_values(out, kind)
    out.print()


def told_stage(number: int, stages: Sequence[StageStudied]) -> str:
    """Return what a stage further within is called."""
    step = stages[number - 1].step
    assert step is not None
    return {"xor": "With the key taken off", "header": "Behind the header", "hex": "As bytes",
            "base64": "As bytes"}.get(step.kind, "Unpacked")  # fmt: skip


def _what(stage: StageStudied) -> str:
    every = [f"{one:,}" for one in dict.fromkeys(stage.sizes)]
    sizes = " / ".join(every[:4]) + (" …" if len(every) > 4 else "")
    if stage.looks_locked:
        return f"{sizes} bytes that look encrypted, or packed in a way that is not known here"
    if stage.what in COMPRESSED and stage.step is None:
        return (
            f"{sizes} bytes that begin like {stage.what} and do not end as such: cut, or in parts"
        )
    known = (
        ""
        if stage.what == "bytes" or stage.what in COMPRESSED
        else f": {_WORDS.get(stage.what, stage.what)}"
    )
    return f"{sizes} bytes{known}"


def _step_lines(stage: StageStudied) -> Iterator[str]:
    step = stage.step
    if step is not None:
        yield f"[good]✓[/] {escape(told_step(step))}"


def told_step(step: Step) -> str:
    """Return in words what comes off."""
    if step.kind == "xor":
        assert step.key is not None
        data = step.key.data
        text = (
            data.decode("ascii")
            if data.isascii() and data.decode("ascii").isprintable()
            else data.hex(" ")
        )
        grows = f", each byte more by {step.key.step} at every position" if step.key.step else ""
        return f"every byte is turned by a key (xor): {text}{grows}"
    if step.kind in ("hex", "base64"):
        return f"it is bytes, written as text ({step.kind})"
    if step.kind == "header":
        ends = (
            f", up to {len(step.backs[0])} bytes before the end"
            if any(step.backs)
            else ", not packed"
        )
        return f"what follows begins at byte {len(step.fronts[0])}{ends}"
    sure = f"; {CHECKED[step.inner or step.kind]} agrees" if step.checked else ""
    if step.kind == "chunks":
        most = (
            f"{min(step.counts)} to {max(step.counts)}"
            if len(set(step.counts)) > 1
            else str(step.counts[0])
        )
        return f"packed with {step.inner} in {most} pieces one behind the other{sure}"
    starts = {len(one) for one in step.fronts}
    where = f"from byte {starts.pop()}" if len(starts) == 1 else "from a place that differs"
    if step.mark:
        where += f", right behind {step.mark.decode('ascii')!r}"
    ends = (
        "to the end" if not any(step.backs) else f"up to {len(step.backs[0])} bytes before the end"
    )
    return f"packed with {step.kind} {where} {ends}{sure}"


def _print_guesses(out: Console, guesses: Sequence[Guess], way: int) -> None:
    if not guesses:
        return
    shown = table("   ", "At", "Bytes", "What", "In the files", right=("At", "Bytes"))
    total = 0 if not way else sum(one.size for one in guesses)
    for one in guesses:
        mark = "   " + ("[good]✓[/]" if one.sure else "[care]?[/]" if one.bits else "")
        at = f"{one.at - total}" if way else f"+{one.at}" if one.behind else f"{one.at}"
        values = escape(" | ".join(dict.fromkeys(one.values)))
        shown.add_row(mark, at, f"{one.size}", escape(one.says), values)
    out.print(shown)


def _print_values(out: Console, kind: KindStudied) -> None:
    if not kind.values:
        return
    out.print("  [save]What you know:[/]")
    for value in kind.values:
        for line in _value_lines(value, kind):
            out.print(indented(line, 4))


def _value_lines(value: ValueFound, kind: KindStudied) -> Iterator[str]:
    shown = escape(", ".join(dict.fromkeys(value.shown)))
    where = "" if value.stage == 0 else f"{told_stage(value.stage, kind.stages).lower()}: "
    ways = [one for one in value.ways if one.sure] or value.ways
    for one in ways[:_MOST_VALUES]:
        if one.sure:
            told = escape(f"{one.places[0]}, {one.how}")
            yield f"[good]✓[/] {escape(value.name)} ({shown}): {where}{told}"
        else:
            some = escape(", ".join(one.places))
            more = f"at {one.count:,} places, such as {some}" if one.count > 1 else f"at {some}"
            yield f"[care]?[/] {escape(value.name)} ({shown}): {where}{more}, {escape(one.how)}"
    if not ways[0].sure:
        yield (
            f"  [dim]A save with another {escape(value.name)} would decide: name it with its own "
            "value.[/]"
        )


def study_data(found: Study) -> dict[str, Any]:
    """Return all of it as plain data."""
    return {
        "files": found.count,
        "kinds": [_kind_data(one) for one in found.kinds],
        "the_same": [to_builtins(one) for one in found.alike],
        "notes": found.notes,
        "stopped": found.stopped or None,
    }


def _kind_data(kind: KindStudied) -> dict[str, Any]:
    return {
        "pattern": kind.names.pattern,
        "files": list(kind.names.paths),
        "fields": {name: list(values) for name, values in kind.names.fields.items()},
        "looked_at": [one.path for one in kind.samples],
        "stages": [_stage_data(one) for one in kind.stages],
        "values": [
            {"name": one.name, "shown": list(one.shown), "stage": one.stage,
             "ways": [to_builtins(way) for way in one.ways]}
            for one in kind.values
        ],
        "not_found": list(kind.missing),
    }  # fmt: skip


def _stage_data(stage: StageStudied) -> dict[str, Any]:
    return {
        "sizes": list(stage.sizes), "what": stage.what, "looks_locked": stage.looks_locked,
        "density": round(stage.density, 3), "front": [_guess_data(one) for one in stage.front],
        "back": [_guess_data(one) for one in stage.back],
        "comes_off": told_step(stage.step) if stage.step is not None else None,
        "packed_within": [
            {"kind": one.kind, "start": one.start, "end": one.end, "size": one.size}
            for one in stage.within
        ],
    }  # fmt: skip


def _guess_data(one: Guess) -> dict[str, Any]:
    return {
        "at": one.at, "behind_texts": one.behind, "bytes": one.size, "kind": one.kind,
        "says": one.says, "values": list(one.values), "sure": one.sure,
        "field": to_builtins(one.spec),
    }  # fmt: skip
