"""What changed lately, and what a folder seems to hold, on the terminal."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING

from clever_ferry.cli.screen import (
    console,
    counted,
    escape,
    heading,
    indented,
    place,
    size,
    table,
    when,
    when_cell,
)
from clever_ferry.finding.addresses import address_of
from clever_ferry.tree import OneFile

if TYPE_CHECKING:
    from clever_ferry.finding.changes import Changed, Changes
    from clever_ferry.looking import PartOf, Sight, Surveyed

__all__ = ["print_changes", "print_survey"]

_MOST = 30


def print_changes(changes: Changes, whose: Mapping[Path, str], since: int) -> None:
    """Print the folders with changed files, the newest first."""
    out = console()
    if not changes.folders:
        out.print(f"No file has changed since {when(since)}.")
        out.print("Looked below:")
        for top in changes.looked:
            out.print(f"  {escape(place(top))}", soft_wrap=True)
    else:
        out.print(heading(f"Changed since {when(since)}"))
        shown = table("When", "Whose", "What, and where", "Size", right=("Size",))
        older = "\n[dim]came here since,\nwith this date[/]"
        for one in changes.folders[:_MOST]:
            shown.add_row(
                when_cell(one.stamp) + older * (one.stamp < since),
                f"[good]{escape(whose[one.folder])}[/]" if one.folder in whose
                else f"{escape(one.guess)}\n[dim]by its folders' names[/]" if one.guess else "?",
                f"{escape(_names(one))}\n[place]{escape(place(one.folder))}[/]",
                size(sum(new.size for new in one.files)),
            )  # fmt: skip
        out.print(shown)
        if len(changes.folders) > _MOST:
            rest = counted(len(changes.folders) - _MOST, "more folder")
            out.print(f"… and {rest}; --json lists all.")
    if changes.passed:
        names = ", ".join(str(path) for path in changes.passed)
        out.print(f"[dim]Not looked at: caches, and below {escape(names)}.[/]", soft_wrap=True)
    for trouble in changes.troubles[:10]:
        out.print(f"[care]Careful:[/] {escape(trouble)}", soft_wrap=True)
    unknown = next((one.folder for one in changes.folders if one.folder not in whose), None)
    if unknown is not None:
        out.print(f'Next, what such a folder holds: cferry look "{escape(str(unknown))}"',
                  soft_wrap=True)  # fmt: skip


def _names(one: Changed) -> str:
    names = [new.path.replace("\\", "/").rsplit("/", 1)[-1] for new in one.files]
    more = f" … and {len(names) - 4} more" if len(names) > 4 else ""
    return ", ".join(names[:4]) + more


def print_survey(surveyed: Surveyed, what: str) -> None:
    """Print what a folder seems to hold, and what to do with it."""
    out, survey = console(), surveyed.survey
    out.print(
        heading(what) + f"  {escape(surveyed.place.title)}" * (surveyed.place.kind != "folder")
    )
    if not survey.count:
        out.print("  no files")
    else:
        deep = f", {survey.deepest} folders deep" if survey.deepest > 1 else ""
        newest = (
            f"; the newest is {survey.newest.path}, {when(survey.newest.stamp)}"
            if survey.newest
            else ""
        )
        out.print(
            f"{counted(survey.count, 'file')}, {size(survey.size)}{deep}{escape(newest)}",
            soft_wrap=True,
        )
        shown = table("Kind", "Files", "Size", "Such as", right=("Files", "Size"))
        for kind in survey.kinds:
            shown.add_row(kind.title, f"{kind.files:,}", size(kind.size), escape(kind.example))
        out.print(shown)
    for line in surveyed.glimpse:
        out.print(f"  {escape(line)}", soft_wrap=True)
    for sets in survey.sets[:5]:
        endings = " + ".join(ending or "(none)" for ending in sets.endings)
        out.print(indented(
            f"[save]Belong together:[/] {escape(endings)}, {counted(len(sets.stems), 'time')}: "
            f"{escape(_some(sets.stems))}", 2))  # fmt: skip
    for series in survey.series[:5]:
        gaps = f"; not there: {_some(list(map(str, series.gaps)))}" if series.gaps else ""
        out.print(indented(
            f"[save]A numbered series:[/] {escape(series.pattern)}, # from {series.numbers[0]} to "
            f"{series.numbers[-1]} ({len(series.numbers)} files{gaps})", 2))  # fmt: skip
    for trouble in survey.troubles[:10]:
        out.print(f"[care]Careful:[/] {escape(trouble)}", soft_wrap=True)
    for sight in surveyed.sights:
        berth = sight.berth
        out.print(
            f"[good]Reads as {escape(berth.game.title)}, {escape(berth.edition.title)}:[/] "
            f"{counted(len(sight.saves), 'save')} in {escape(place(berth.root))}", soft_wrap=True
        )  # fmt: skip
    if surveyed.part_of:
        for part in surveyed.part_of:
            _print_part(part)
    elif surveyed.sights and isinstance(surveyed.sights[0].berth.files, OneFile):
        _print_lone(surveyed.sights[0], what)
    elif surveyed.sights:
        berth = surveyed.sights[0].berth
        address = f"{berth.game.id}/{berth.edition.id}@{berth.root if berth.writable else what}"
        out.print(f"Next: cferry slots {escape(_quoted(address))}", soft_wrap=True)
    else:
        out.print(
            "No recipe reads it as saves. `cferry unbox FILE` opens archives and packed files; "
            "docs/first-recipe.md shows how to describe a game."
        )
        out.print(
            f"Next, how its files are built: cferry study {escape(_quoted(what))}", soft_wrap=True
        )
        out.print(
            f"Or have a recipe drafted: cferry draft {escape(_quoted(what))} -o my-game.toml",
            soft_wrap=True,
        )


def _print_part(part: PartOf) -> None:
    out, berth = console(), part.sight.berth
    whose = f"{berth.game.title}, {berth.edition.title}"
    if not part.saves:
        told = f"[good]It lies where {escape(whose)} keeps saves[/]; none of them has files in it."
        out.print(told, soft_wrap=True)
        out.print(f"Next: cferry slots {escape(berth.address)}", soft_wrap=True)
        return
    one = part.saves[0]
    whole = f'"{one.title}"' if len(part.saves) == 1 else counted(len(part.saves), "save")
    told = f"{whole} ({', '.join(part.roles)})"
    out.print(f"[good]Part of {escape(whose)}:[/] {escape(told)}", soft_wrap=True)
    where = address_of(berth.address, one) if len(part.saves) == 1 else berth.address
    out.print(f"Next: cferry check {escape(where)}", soft_wrap=True)


def _print_lone(sight: Sight, what: str) -> None:
    berth, save = sight.berth, sight.saves[0]
    missing = berth.edition.missing(save.roles)
    if missing:
        told = f"It is only its {save.pieces[0].role}: {', '.join(missing)} must lie beside it."
        console().print(f"{told} Name the folder that has all of it.", soft_wrap=True)
        return
    destinations = [one for one in berth.game.editions.values() if one.id != berth.edition.id]
    destination = f"{berth.game.id}/{(destinations or [berth.edition])[0].id}"
    line = f"cferry cross --from-file {_quoted(what)} {destination} --dry-run"
    console().print(f"Next: {escape(line)}", soft_wrap=True)


def _quoted(text: str) -> str:
    return f'"{text}"' if " " in text else text


def _some(names: list[str] | tuple[str, ...]) -> str:
    return ", ".join(names[:4]) + (f" … and {len(names) - 4} more" if len(names) > 4 else "")
