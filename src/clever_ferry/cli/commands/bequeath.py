"""`cferry bequeath`: the end of one game becomes the start of its successor."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from contextlib import ExitStack
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from clever_ferry.bequeathing.rows import text
from clever_ferry.bequeathing.viewing import named, view_of
from clever_ferry.bequests import Bequeathed, BequestAsked, BequestStep, chosen_in
from clever_ferry.cli.again import after_dry_run
from clever_ferry.cli.described import save_data
from clever_ferry.cli.exits import echo_json
from clever_ferry.cli.here import agree, can_ask, ferry_here
from clever_ferry.cli.options import change_options, closed_option, give_option, json_option
from clever_ferry.cli.plans import print_kept
from clever_ferry.cli.progress import phases, telling
from clever_ferry.cli.screen import (
    console,
    counted,
    escape,
    facts_line,
    heading,
    place,
    steps,
    table,
)
from clever_ferry.crossing.aftermath import steps_after
from clever_ferry.errors import RefusedError, WrongUseError
from clever_ferry.finding import parse_address
from clever_ferry.moving.outputs import new_file
from clever_ferry.wording import in_words

if TYPE_CHECKING:
    from clever_ferry.ferry import Ferry
    from clever_ferry.recipes.bequest_models import OptionInfo

__all__ = ["command"]

_MOST = 5
"""So many names of rows are told one by one."""


@click.command("bequeath")
@click.argument("source", metavar="SAVE")
@click.argument("target", metavar="GAME")
@click.option(
    "-o", "--into", "folder", type=click.Path(path_type=Path), metavar="FOLDER",
    help="The folder where GAME keeps such starts, where it is not the usual one.",
)  # fmt: skip
@click.option("--set", "sets", multiple=True, metavar="OPTION=VALUE", help="Choose an option.")
@click.option("--preset", metavar="NAME", help="Choose options that go together.")
@click.option(
    "--options", "file", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE",
    help="Take the options from a file, such as an earlier bequest has kept.",
)  # fmt: skip
@click.option(
    "--through", multiple=True, metavar="GAME", help="A game between the two; once for each.",
)  # fmt: skip
@click.option(
    "--installed", "places", multiple=True, metavar="GAME=FOLDER",
    help="Where a game is installed, if it is not found.",
)  # fmt: skip
@click.option(
    "--pass-addon", "passed", multiple=True, metavar="NAME",
    help="Go on with an add-on that the recipe does not know.",
)  # fmt: skip
@click.option(
    "--preview", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE",
    help="Draw the map before and after, and what became of what (.html or .png).",
)  # fmt: skip
@click.option("--replace", is_flag=True, help="With --yes: a start of the same name is replaced.")
@click.option("--no-tell", is_flag=True, help="Leave the game's list of what is enabled alone.")
@click.option("--account", metavar="NAME", help="Whose saves SAVE means.")
@change_options
@give_option
@closed_option
@json_option
@click.pass_obj
def command(
    computer: Path | None, source: str, target: str, folder: Path | None, sets: Sequence[str],
    preset: str | None, file: Path | None, through: Sequence[str], places: Sequence[str],
    passed: Sequence[str], preview: Path | None, replace: bool, no_tell: bool, account: str | None,
    dry_run: bool, yes: bool, given: Mapping[str, str], game_closed: bool, as_json: bool,
) -> None:  # fmt: skip
    """Make the end of a game the start of its successor.

    SAVE is a finished game, such as kingfisher-crown/windows:"The Long Reign"; it is only read.
    GAME is the one that follows, such as kingfisher-age. A recipe for the two says what becomes of
    what; both games must be installed, as their maps are needed.

    At a terminal you are asked for each option, unless you choose them here. What is made is read
    back first, and then put where GAME looks for it.
    """  # fmt: skip
    ferry = ferry_here(computer)
    ask = can_ask() and not as_json and not yes
    if preview is not None and preview.suffix.lower() not in (".html", ".png"):
        raise WrongUseError(f"{preview} ends neither in .html nor in .png.")
    kept = chosen_in(file) if file is not None else None
    options: dict[str, Any] = dict(kept.options) if kept is not None else {}
    options |= dict(_pair(one, "--set", "OPTION=VALUE") for one in sets)
    if ask and not sets and preset is None and file is None:
        options = _asked(ferry, source, target, through)
    asked = BequestAsked(
        options, preset, tuple(through),
        {name: Path(place) for name, place in
         (_pair(one, "--installed", "GAME=FOLDER") for one in places)},
        frozenset(passed), kept,
    )  # fmt: skip
    with ExitStack() as lasting:
        with phases(as_json) as tell:
            bequest = lasting.enter_context(ferry.bequests.made(
                source, target, folder, asked, account=account, given=given, tell=not no_tell,
                progress=tell,
            ))  # fmt: skip
        _go_on(ferry, bequest, preview, dry_run=dry_run, yes=yes, replace=replace, ask=ask,
               as_json=as_json, game_closed=game_closed)  # fmt: skip


def _go_on(
    ferry: Ferry, bequest: Bequeathed, preview: Path | None, *, dry_run: bool, yes: bool,
    replace: bool, ask: bool, as_json: bool, game_closed: bool,
) -> None:  # fmt: skip
    if not as_json:
        _print(bequest)
    if preview is not None:
        _draw(bequest, preview)
        if not as_json:
            told = f"[good]✓[/] What becomes of what is drawn in {escape(str(preview))}"
            console().print(told, soft_wrap=True)
    number = None
    if not dry_run:
        where, there = bequest.plan.target.berth.address, bequest.plan.replaced
        again = ("--yes", "--replace") if there else ("--yes",)
        taken = RefusedError(
            f"In {where}, {' and '.join(save.title for save in there)} would be replaced.",
            advice="Add --replace to replace it (it is backed up first).", again=("--replace",),
        )  # fmt: skip
        agree(
            f"Put it into {where}" + (", in the place of what is there?" if there else "?"),
            "changed", yes=yes, ask=ask, refused=taken if there and not replace else None,
            advice=f"Look at what was made, then add {' and '.join(again)} to put it there.",
            again=again,
        )  # fmt: skip
        with telling(as_json) as tell:
            number = ferry.carry_out(bequest.plan, tell, game_closed=game_closed).number
    if as_json:
        echo_json(_data(bequest, number))
    elif number is None:
        again = ("--yes", "--replace") if bequest.plan.replaced else ("--yes",)
        console().print(escape(after_dry_run(*again)), soft_wrap=True)
    else:
        _print_done(bequest, number)


def _pair(written: str, option: str, form: str) -> tuple[str, str]:
    name, sign, value = written.partition("=")
    if not sign or not name.strip():
        raise WrongUseError(f"{option} takes {form}, and {written!r} is none.")
    return name.strip(), value


def _asked(ferry: Ferry, source: str, target: str, through: Sequence[str]) -> dict[str, Any]:
    """Ask for each option of each step; Enter takes what is usual."""
    found: dict[str, Any] = {}
    route = ferry.bequests.route(parse_address(source).game, parse_address(target).game, through)
    for bequest in route:
        for name, info in bequest.recipe.options.items():
            if name not in found:
                found[name] = _answer(info)
    return found


def _answer(info: OptionInfo) -> Any:
    if info.help:
        click.echo(info.help, err=True)
    while True:
        kind: Any = click.Choice(info.choices) if info.choices else None
        if info.kind_ == "yes-no":
            return click.confirm(info.label, default=bool(info.default), err=True)
        if info.kind_ == "number":
            kind = float
        value = click.prompt(info.label, default=info.default, type=kind, err=True)
        if isinstance(value, float) and value.is_integer():
            value = int(value)
        if not (why := info.fault(value)):
            return value
        click.echo(f"That can't be: {why}.", err=True)


def _print(bequest: Bequeathed) -> None:
    out = console()
    first, last = bequest.steps[0].made.bequest, bequest.steps[-1].made.bequest
    out.print(f"[bold]{escape(first.source.title)} to {escape(last.target.title)}[/]")
    out.print(f"  from  [save]{escape(bequest.save.title)}[/]  [place]{escape(bequest.where)}[/]  "
              f"[dim]{escape(facts_line(bequest.save))}[/]", soft_wrap=True)  # fmt: skip
    for step in bequest.steps:
        _print_step(step, several=len(bequest.steps) > 1)
    print_kept(out, bequest.plan, place)


def _print_step(step: BequestStep, *, several: bool) -> None:
    out, made = console(), step.made
    if several:
        out.print(f"[bold]{escape(made.bequest.recipe.bequest.title)}[/]")
    chosen = ", ".join(f"{name} {text(value) or 'none'}" for name, value in made.options.items())
    if chosen:
        out.print(f"  chosen  {escape(chosen)}", soft_wrap=True)
    if made.addons:
        out.print(f"  add-ons {escape(', '.join(made.addons))}", soft_wrap=True)
    shown = table("Made", "Of", "Rows", "Sum before", "Sum after",
                  right=("Of", "Rows", "Sum before", "Sum after"))  # fmt: skip
    for info in made.bequest.recipe.make:
        told = made.told[info.table]
        shown.add_row(escape(told.label), f"{told.of:,}", f"{told.count:,}", "", "")
        for column, (before, after) in told.sums.items():
            style = "" if _sum(before) == _sum(after) else "[care]"
            shown.add_row(f"  {escape(column)}", "", "", _sum(before), style + _sum(after))
    out.print(shown)
    for info in made.bequest.recipe.make:
        for what, names, odd in named(made.told[info.table]):
            if names:
                _print_named(what, names, "care" if odd else "dim")


def _sum(value: float) -> str:
    return in_words(round(value, 3) if isinstance(value, float) else value, "count")


def _print_named(what: str, names: Sequence[str], style: str) -> None:
    more = f" and {len(names) - _MOST:,} more" if len(names) > _MOST else ""
    told = f"{len(names):,}: {', '.join(names[:_MOST])}{more}"
    console().print(f"  [{style}]{escape(what)}[/]  {escape(told)}", soft_wrap=True)


def _print_done(bequest: Bequeathed, number: int) -> None:
    out, plan = console(), bequest.plan
    out.print(heading("Read back and the same"))
    for step in bequest.steps:
        for read in step.read.values():
            told = f"{read.label}: {counted(read.rows, 'row')}, each as it was made: "
            told += ", ".join(read.compared)
            out.print(f"  [good]✓[/] {escape(told)}", soft_wrap=True)
    after = steps_after(plan, [move.save for move in plan.moves], str)
    if after:
        out.print("\n" + heading("Now in the game"))
        out.print(steps(after), soft_wrap=True)
    out.print("\nWhether the game takes it, only the game can say.")
    out.print(f"To take it out again: cferry undo {number}")


def _draw(bequest: Bequeathed, file: Path) -> None:
    from clever_ferry.sheets.bequest_views import bequest_page, bequest_picture

    views = [view_of(step.made, bequest.where) for step in bequest.steps]
    drawn = file.suffix.lower() == ".png"
    if drawn and not (views[0].grounds and views[-1].grounds):
        raise WrongUseError("The recipe does not say how its maps are drawn: a page needs none.")
    try:
        raw = bequest_picture(views) if drawn else bequest_page(views).encode()
    except ImportError:
        raise WrongUseError(
            "Pictures need a part that is not installed; a page (.html) needs none.",
            advice="pip install 'clever-ferry[pictures]'",
        ) from None
    with new_file(file) as part:
        part.write_bytes(raw)


def _data(bequest: Bequeathed, number: int | None) -> dict[str, object]:
    return {
        "from": save_data(bequest.save),
        "steps": [
            {
                "recipe": step.made.bequest.id,
                "options": dict(step.made.options),
                "addons": list(step.made.addons),
                "tables": [
                    {
                        "name": name, "rows": told.count,
                        "sums": {column: {"before": before, "after": after}
                                 for column, (before, after) in told.sums.items()},
                        "split": told.split, "merged": told.merged,
                        "unmapped": told.unmapped, "unreached": told.unreached,
                        "left_out": told.left_out, "defaults": told.defaults,
                        "rules": told.rules,
                    }
                    for name, told in step.made.told.items()
                ],
            }
            for step in bequest.steps
        ],
        "running": list(bequest.plan.signs.running),
        "crossing": number,
    }  # fmt: skip
