"""`cferry restore`: bring a backup back, where it was or into another folder."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from clever_ferry.cli.again import after_dry_run
from clever_ferry.cli.certain import print_reached
from clever_ferry.cli.described import kept_data, plan_data
from clever_ferry.cli.exits import echo_json
from clever_ferry.cli.here import agree, can_ask, ferry_here
from clever_ferry.cli.options import change_options, closed_option, give_option, json_option
from clever_ferry.cli.plans import print_plan
from clever_ferry.cli.progress import telling
from clever_ferry.cli.screen import (
    console,
    counted,
    escape,
    place,
    print_unkept,
    table,
    told_facts,
    when,
)
from clever_ferry.crossing.plan import Plan
from clever_ferry.crossing.restoring import Restoring
from clever_ferry.errors import RefusedError

if TYPE_CHECKING:
    from clever_ferry.ferry import Ferry
    from clever_ferry.keeping.snapshots import KeptSave

__all__ = ["command"]

_STRANGE = "No recipe knows this folder as a place of these saves, and nothing was carried there."


@click.command("restore")
@click.argument("ident", metavar="ID")
@click.option("--slot", "slots", metavar="SLOTS", help="Only these saves, such as 2 or 2,5.")
@click.option(
    "--to", "folder", type=click.Path(path_type=Path), metavar="DIR",
    help="Write the files into this new folder instead of where they were.",
)  # fmt: skip
@change_options
@click.option("--replace", is_flag=True, help="With --yes: saves of today may be replaced.")
@click.option(
    "--place-ok", is_flag=True,
    help="With --yes: the backup's folder is right, though no recipe knows it.",
)  # fmt: skip
@give_option
@closed_option
@json_option
@click.pass_obj
def command(
    computer: Path | None, ident: str, slots: str | None, folder: Path | None, dry_run: bool,
    yes: bool, replace: bool, place_ok: bool, given: dict[str, str], game_closed: bool,
    as_json: bool,
) -> None:  # fmt: skip
    """Bring a backup back: files, names and time stamps as they were.

    ID is in `cferry backup list`; some of it will do, and `latest` is the newest. What
    stands there now is backed up first, and `cferry undo` takes the restore back.
    """
    ferry = ferry_here(computer)
    if folder is not None:
        _extract(ferry, ident, folder, slots, dry_run, as_json)
        return
    plan = ferry.backups.plan_restore(ident, slots, given)
    strange = not isinstance(plan, Plan) and not ferry.backups.is_known_place(plan.snapshot)
    if not as_json:
        _print(plan)
        if strange:
            console().print(_STRANGE, style="care")
    if dry_run:
        if as_json:
            echo_json({**_data(plan), "restored": False})
        else:
            assent = ["--yes", "--replace"] if plan.replaced else ["--yes"]
            assent += ["--place-ok"] if strange else []
            console().print(escape(after_dry_run(*assent)), soft_wrap=True)
        return
    if isinstance(plan, Restoring) and strange and yes and not place_ok:
        raise RefusedError(
            _STRANGE, details=(f"  {plan.snapshot.root}",), again=("--place-ok",),
            advice="If it is right, add --place-ok. `--to FOLDER` writes the files elsewhere.",
        )  # fmt: skip
    _agree(plan, yes=yes, replace=replace, ask=can_ask() and not as_json and not yes)
    with telling(as_json) as tell:
        if isinstance(plan, Plan):
            crossed = ferry.carry_out(plan, tell, game_closed=game_closed)
            number, unkept = crossed.number, crossed.unkept
        else:
            restored = ferry.backups.restore(plan, tell, game_closed=game_closed)
            number, unkept = restored.number, restored.unkept
    if as_json:
        more = {"level": "same", "not_kept": unkept}
        echo_json({**_data(plan), "restored": True, "number": number, **more})
        return
    out = console()
    out.print("[good]✓[/] Restored, and the same as it was kept.")
    print_unkept(unkept)
    print_reached(out, "same", number if isinstance(plan, Plan) else plan.snapshot.about.address)
    out.print(f"To take that back: cferry undo {number}")


def _print(plan: Restoring | Plan) -> None:
    out = console()
    if isinstance(plan, Plan):
        out.print("[bold]Out of a backup[/]")
        print_plan(out, plan)
        return
    snapshot = plan.snapshot
    out.print(f"[bold]{escape(snapshot.about.title)}[/], as it was {when(snapshot.made)}")
    out.print(f"  [place]{escape(place(plan.files.root))}[/]", soft_wrap=True)
    standing = {save.key: save for save in plan.replaced}
    shown = table("Slot", "Comes back", "", "In place of (backed up first)")
    concerned = {*plan.comes, *plan.goes}
    for save in snapshot.saves:
        there = standing.pop(save.key, None)
        if there is not None or concerned.intersection(save.files):
            same = there is not None and bool(save.facts) and there.facts == save.facts
            was = _told(there) if there else "nothing"
            told = "[dim]the same facts, in other files[/]" if same else was
            shown.add_row(str(save.slot), _told(save), "→", told)
    for there in standing.values():
        shown.add_row(str(there.slot), "[care]nothing: it goes[/]", "→", _told(there))
    out.print(shown)
    out.print(f"  {counted(len(plan.comes), 'file')} written, {len(plan.goes)} removed")


def _told(save: KeptSave) -> str:
    return f"[save]{escape(save.title)}[/]\n[dim]{escape(told_facts(save.facts[:3]))}[/]"


def _data(plan: Restoring | Plan) -> dict[str, object]:
    if isinstance(plan, Plan):
        return {"plan": plan_data(plan)}
    return {
        "backup": kept_data(plan.snapshot.short),
        "comes": list(plan.comes),
        "goes": list(plan.goes),
        "replaced": [{"slot": save.slot, "name": save.title} for save in plan.replaced],
    }


def _agree(plan: Restoring | Plan, *, yes: bool, replace: bool, ask: bool) -> None:
    titles = [save.title for save in plan.replaced]
    there = RefusedError(
        "Saves of today would be replaced.",
        details=tuple(f"  {title}" for title in titles),
        advice="Add --replace to replace them (they are backed up first).",
    )
    agree(
        "Restore it?", "restored", yes=yes, ask=ask,
        refused=there if titles and not replace else None,
        advice="Look at what it says, then add --yes to do it"
        + (" and --replace to replace what is there." if titles else "."),
    )  # fmt: skip


def _extract(
    ferry: Ferry, ident: str, folder: Path, slots: str | None, dry_run: bool, as_json: bool
) -> None:
    snapshot = ferry.backups.snapshot(ident)
    paths, unkept = [kept.path for kept in snapshot.files], list[str]()
    if not dry_run:
        with telling(as_json) as tell:
            paths, unkept = ferry.backups.extract(snapshot.id, folder, slots, tell)
    if as_json:
        answer = {"id": snapshot.id, "folder": str(folder), "files": paths, "not_kept": unkept}
        echo_json({**answer, "written": not dry_run})
    elif dry_run:
        what = f"{counted(len(paths), 'file')} would be written into {escape(str(folder))}."
        console().print(what, soft_wrap=True)
    else:
        console().print(
            f"[good]✓[/] {counted(len(paths), 'file')} written into {escape(str(folder))}.",
            soft_wrap=True,
        )
        print_unkept(unkept)
