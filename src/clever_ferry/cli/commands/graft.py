"""`cferry graft`: parts of one save go into another."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import click
from msgspec.structs import replace
from rich.padding import Padding

from clever_ferry.cli.again import after_dry_run
from clever_ferry.cli.certain import print_reached
from clever_ferry.cli.described import save_data
from clever_ferry.cli.exits import echo_json
from clever_ferry.cli.here import agree, can_ask, choose, ferry_here
from clever_ferry.cli.options import change_options, closed_option, give_option, json_option
from clever_ferry.cli.plans import print_signs
from clever_ferry.cli.progress import telling
from clever_ferry.cli.screen import console, counted, escape, facts_line, heading, steps, table
from clever_ferry.crossing.aftermath import steps_after
from clever_ferry.errors import WrongUseError
from clever_ferry.finding.addresses import address_of
from clever_ferry.grafting.wishes import Choices
from clever_ferry.grafts import choices_in, choices_text, parts_of
from clever_ferry.moving.outputs import new_file
from clever_ferry.wording import in_words

if TYPE_CHECKING:
    from clever_ferry.ferry import Ferry
    from clever_ferry.grafts import Graft
    from clever_ferry.recipes.tables import Table

__all__ = ["command"]

_MOST_OWNERS = 8


@click.command("graft")
@click.argument("source", metavar="FROM")
@click.argument("target", metavar="INTO")
@click.option(
    "--part",
    "parts",
    multiple=True,
    metavar="NAME[:COLUMN=VALUE,…]",
    help="What to take: a part or a table by its name; of it, rows with these values (owner=2, "
    "id=7,9). as=replace takes them in the place of what is there (what is usual), as=add beside "
    "it (usual for some rows), as=merge in the place of the same things.",
)
@click.option("--whole", multiple=True, metavar="PIECE", help="Take a whole piece, as it is.")
@click.option(
    "--owner",
    "owners",
    multiple=True,
    metavar="OLD=NEW",
    help="Give what was OLD's to NEW, by number or name.",
)
@click.option(
    "--map",
    "maps",
    multiple=True,
    metavar="TABLE:OLD=NEW",
    help="Say which row of INTO is what FROM's rows refer to.",
)
@click.option(
    "--set",
    "sets",
    multiple=True,
    metavar="TABLE.COLUMN=VALUE",
    help="Set a column of all rows that come, such as a place on another map.",
)
@click.option(
    "--leave-lost", is_flag=True, help="Leave out rows that would lead to nothing, and say so."
)
@click.option(
    "--choices",
    "file",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    help="Take all of that from a file, too.",
)
@click.option(
    "--write-choices",
    type=click.Path(path_type=Path, dir_okay=False),
    metavar="FILE",
    help="Write what was chosen to a file, so that it can be done again.",
)
@click.option("--newer-ok", is_flag=True, help="INTO's game was updated since its last save.")
@click.option("--from-account", metavar="NAME", help="Whose saves FROM means.")
@click.option("--to-account", metavar="NAME", help="Whose saves INTO means.")
@change_options
@give_option
@closed_option
@json_option
@click.pass_obj
def command(
    computer: Path | None, source: str, target: str, parts: Sequence[str], whole: Sequence[str],
    owners: Sequence[str], maps: Sequence[str], sets: Sequence[str], leave_lost: bool,
    file: Path | None, write_choices: Path | None, from_account: str | None,
    to_account: str | None, newer_ok: bool, dry_run: bool, yes: bool, given: Mapping[str, str],
    game_closed: bool, as_json: bool,
) -> None:  # fmt: skip
    """Take parts of an old save into a fresh one of the same game.

    FROM and INTO are single saves, such as orrery-yard/windows:"Brass Court". FROM is only read.
    INTO keeps its name, its owner, and all that is not taken; it is backed up first.

    Without --part and --whole, those parts go that the game's recipe says usually go; at a
    terminal, you are asked for each. What rows refer to comes along, or is the same thing there;
    where it is neither, you are told what to add.
    """  # fmt: skip
    ferry = ferry_here(computer)
    ask = can_ask() and not as_json and not yes
    choices = choices_in(file) if file is not None else Choices()
    choices = replace(
        choices, parts=(*choices.parts, *parts), whole=(*choices.whole, *whole),
        owners=(*choices.owners, *owners), maps=(*choices.maps, *maps),
        sets=(*choices.sets, *sets), leave_lost=choices.leave_lost or leave_lost,
    )  # fmt: skip

    def plan(answers: Mapping[str, str]) -> Graft:
        own = choices
        if not own.parts and not own.whole and ask:
            own = replace(own, parts=_asked(ferry, source))
        return ferry.grafts.plan(
            source, target, own, from_account=answers.get("--from-account", from_account),
            to_account=answers.get("--to-account", to_account), given=given, newer_ok=newer_ok,
        )  # fmt: skip

    graft = choose(plan, ask=ask)
    if not as_json:
        _print(graft)
    if write_choices is not None:
        with new_file(write_choices) as part:
            part.write_text(choices_text(graft.choices), "utf-8")
        if not as_json:
            told = f"[good]✓[/] What was chosen stands in {escape(str(write_choices))}"
            console().print(told, soft_wrap=True)
    number = None
    if not dry_run:
        agree(
            f"Put this into {graft.target.save.title} (it is backed up first)?", "changed",
            yes=yes, ask=ask, advice="Look at the plan, then add --yes to carry it out.",
            again=("--yes",),
        )  # fmt: skip
        with telling(as_json) as tell:
            done = ferry.carry_out(graft.plan, tell, game_closed=game_closed)
        number = done.number
    if as_json:
        echo_json(_data(graft, number))
    elif number is None:
        console().print(escape(after_dry_run("--yes")), soft_wrap=True)
    else:
        _print_done(graft, number)


def _asked(ferry: Ferry, source: str) -> tuple[str, ...]:
    """Ask for each part whether it is to go."""
    chosen = ferry.noting.tables(source)
    counts = {one.name: one.count for one in chosen.tables}
    game, found = chosen.opened.berth.game, []
    for name, (label, usual) in parts_of(game).items():
        part = game.parts.get(name)
        names = part.tables if part is not None else (name,)
        roles = part.pieces if part is not None else ()
        if part is None and any(name in one.tables for one in game.parts.values()):
            continue  # it goes with a part that has been asked for
        rows = sum(counts.get(table, 0) for table in names)
        pieces = sum(piece.role in roles for piece in chosen.save.pieces)
        what = [counted(rows, "row")] if names else []
        what += [counted(pieces, "piece")] if roles else []
        if not rows and not pieces:
            continue
        if click.confirm(f"Take {label} ({' and '.join(what)})?", default=usual, err=True):
            found.append(name)
    if not found:
        raise WrongUseError("Nothing was chosen, so nothing was changed.")
    return tuple(found)


def _print(graft: Graft) -> None:
    out, source, target = console(), graft.source, graft.target
    out.print(f"[bold]{escape(target.opened.berth.game.title)}[/]")
    for what, side in (("out of", source), ("into  ", target)):
        where = address_of(side.opened.berth.address, side.save)
        out.print(f"  {what}  [save]{escape(side.save.title)}[/]  [place]{escape(where)}[/]  "
                  f"[dim]{escape(facts_line(side.save))}[/]", soft_wrap=True)  # fmt: skip
    if graft.maps is not None:
        out.print(f"  These are two maps: {escape(graft.maps[0])} and {escape(graft.maps[1])}.")
    shown = table("Table", "Was", "Go", "Come", "Is then", right=("Was", "Go", "Come", "Is then"))
    for name, one in graft.merged.items():
        if one.changes or one.left_out:
            before, after = target.tables[name], graft.then[name]
            shown.add_row(escape(after.label), *(
                f"{number:,}" if number else "[dim]0[/]" for number in
                (before.count, len(one.gone), len(one.taken), after.count)
            ))  # fmt: skip
    if shown.row_count:
        out.print(shown)
    for name, one in graft.merged.items():
        label = escape(graft.then[name].label)
        if one.left_out:
            out.print(f"  [care]left out[/]  {counted(one.left_out, 'row')} of {label}: what they "
                      "name is not there")  # fmt: skip
        for column, values in one.fixed.items():
            out.print(
                f"  set       {escape(graft.then[name].column(column).label)} "
                f"{escape(str(values[0]))} in {counted(len(values), 'row')} of {label}"
            )
        edited = len(one.here_edits)
        if edited:
            out.print(f"  numbered  {counted(edited, 'row')} of {label} that stay follow what "
                      "they name")  # fmt: skip
    for role in graft.wishes.pieces:
        come = [piece.title for piece in source.save.pieces if piece.role == role]
        told = ", ".join(come) or f"{role}: there is none to take"
        out.print(f"  whole     {escape(told)}", soft_wrap=True)
    if graft.wishes.pieces:
        told = "Whether pieces of two saves fit together, only the game can say: load it then."
        out.print(f"  [care]{told}[/]")
    owned = [name for name, one in graft.merged.items() if one.taken or one.gone]
    lines = [(graft.then[name].label, told) for name in owned
             if (told := _by_owner(graft.target.tables[name], graft.then[name]))]  # fmt: skip
    if lines:
        out.print("  [bold]Whose[/]")
        width = max(len(label) for label, _ in lines)
        for label, told in lines:
            out.print(Padding(f"{escape(label.ljust(width))}  {escape(told)}", (0, 0, 0, 4)))
    stays = graft.stays
    if stays:
        out.print(f"  as it was {escape(', '.join(stays))}", soft_wrap=True)
    print_signs(out, graft.plan)
    out.print("[bold]Backed up first:[/] "
              f"[save]{escape(target.save.title)}[/], as it is\n")  # fmt: skip


def _by_owner(before: Table, after: Table) -> str:
    """Return what each owner has of a table, before and after."""
    counts = before.counts(), after.counts()
    sums = before.sums_by_owner(), after.sums_by_owner()
    found = []
    for owner in dict.fromkeys([*counts[0], *counts[1]]):
        rows = _from_to(counts[0].get(owner, 0), counts[1].get(owner, 0), None)
        told = f"{owner or 'nobody'} {rows}"
        for column in after.columns:
            was, now = (side.get(owner, {}).get(column.name, 0) for side in sums)
            if was or now:
                told += f", {column.label} {_from_to(was, now, column.unit)}"
        found.append(told)
    more = f" · and {len(found) - _MOST_OWNERS} more" if len(found) > _MOST_OWNERS else ""
    return " · ".join(found[:_MOST_OWNERS]) + more


def _from_to(one: float, other: float, unit: str | None) -> str:
    was, now = (in_words(value, unit or "count") for value in (one, other))
    return now if was == now else f"{was} → {now}"


def _print_done(graft: Graft, number: int) -> None:
    out = console()
    come = sum(len(one.taken) for one in graft.merged.values())
    out.print(heading("Read back and the same"))
    pieces = sum(one.role in graft.wishes.pieces for one in graft.source.save.pieces)
    what = [counted(come, "row")] if come else []
    what += [counted(pieces, "whole piece")] if pieces else []
    came = " and ".join(what) or "nothing"
    told = f"{graft.after.title}: {came} came, and all reads back as planned"
    out.print(f"  [good]✓[/] {escape(told)}", soft_wrap=True)
    after = steps_after(graft.plan, [graft.after], str)
    if after:
        out.print("\n" + heading("Now in the game"))
        out.print(steps(after), soft_wrap=True)
    out.print()
    print_reached(out, "same", number)
    out.print(f"To put it all back: cferry undo {number}")


def _data(graft: Graft, number: int | None) -> dict[str, object]:
    return {
        "from": save_data(graft.source.save),
        "into": save_data(graft.target.save),
        "maps": list(graft.maps) if graft.maps is not None else None,
        "tables": [
            {
                "name": name, "was": graft.target.tables[name].count, "go": len(one.gone),
                "come": len(one.taken), "left_out": one.left_out, "is": graft.then[name].count,
                "sums": graft.then[name].sums(), "counts": graft.then[name].counts(),
            }
            for name, one in graft.merged.items() if one.changes or one.left_out
        ],
        "whole": list(graft.wishes.pieces),
        "stays": list(graft.stays),
        "running": list(graft.plan.signs.running),
        "crossing": number,
        "level": "same" if number is not None else None,
    }  # fmt: skip
