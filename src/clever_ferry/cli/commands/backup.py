"""`cferry backup`: keep saves; list, show, verify, export and prune what is kept."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

import click

from clever_ferry.cli.again import after_dry_run
from clever_ferry.cli.certain import established_data, print_established, print_left_out
from clever_ferry.cli.described import kept_data, snapshot_data
from clever_ferry.cli.exits import DAMAGED, IN_PART, echo_json
from clever_ferry.cli.here import agree, can_ask, choose, ferry_here
from clever_ferry.cli.options import account_option, change_options, json_option
from clever_ferry.cli.progress import bar, telling
from clever_ferry.cli.screen import (
    console,
    counted,
    escape,
    indented,
    place,
    size,
    table,
    told_facts,
    when,
)
from clever_ferry.errors import NotFoundError, WrongUseError
from clever_ferry.keeping.pruning import Pruning, Rules

if TYPE_CHECKING:
    from clever_ferry.crossing.backing_up import BackedUp
    from clever_ferry.keeping.snapshots import Kept, KeptSave
    from clever_ferry.keeping.verifying import Verified

__all__ = ["command"]

_C = TypeVar("_C", bound=Callable[..., object] | click.Command)
_SHOWN = 20
_FEW = 4
_KINDS = {
    "backup": "asked for",
    "crossing": "before a crossing",
    "undo": "before an undo",
    "restore": "before a restore",
}


class _Backup(click.Group):
    """A group whose usual command needs no name: what is no subcommand is what to back up."""

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        """Put the usual command's name before what is none."""
        if args and args[0] not in self.commands and args[0] not in ("-h", "--help"):
            args = ["make", *args]
        return super().parse_args(ctx, args)

    def format_usage(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """Show both ways."""
        formatter.write_usage(ctx.command_path, "WHERE [--note TEXT] [--account NAME] [--reread]")
        formatter.write_usage(ctx.command_path, "list|show|verify|export|prune …")


@click.group("backup", cls=_Backup)
def command() -> None:
    """Keep a copy of saves in the locker: `cferry backup saltglass` or `saltglass/depot:2`.

    Unchanged files are kept once only, so a backup of the same saves costs almost nothing.
    `cferry restore` brings one back.
    """


@command.command("make", hidden=True)
@click.argument("where")
@click.option("--note", default="", metavar="TEXT", help="A word to know it by later.")
@account_option
@click.option(
    "--reread", is_flag=True,
    help="Read all files again, also those that look as they did at the last backup.",
)  # fmt: skip
@json_option
@click.pass_obj
def make(
    computer: Path | None, where: str, note: str, account: str | None, reread: bool, as_json: bool
) -> None:
    """Keep a copy of saves: all of a game (saltglass), of an edition, or some of its slots."""
    ferry = ferry_here(computer)
    with telling(as_json) as tell:
        made, failed = choose(
            lambda answers: ferry.backup(
                where, answers.get("--account", account), note=note, reread=reread, progress=tell
            ),
            ask=can_ask() and not as_json,
        )
    if as_json:
        told = {"failed": [{"address": berth.address, "what": error.what}
                           for berth, error in failed]} if failed else {}  # fmt: skip
        echo_json({"backups": [_data(one) for one in made], **told})
    else:
        for one in made:
            _print_made(one)
        for berth, error in failed:
            words = f"{berth.address} was not safely kept: {error.what}"
            console().print(f"[bad]✗[/] {escape(words)}")
        ident = made[0].snapshot.id if len(made) == 1 else "ID"
        console().print(f"To bring it back: cferry restore {ident}", soft_wrap=True)
    if failed:
        raise click.exceptions.Exit(IN_PART)


def _data(one: BackedUp) -> dict[str, object]:
    return {
        **kept_data(one.snapshot.short), "unchanged": one.unchanged,
        "left_out": list(one.left_out),
        "established": [
            {"save": saved.save.title, "pieces": established_data(saved)} for saved in one.examined
        ],
    }  # fmt: skip


def _print_made(one: BackedUp) -> None:
    snapshot, out = one.snapshot, console()
    out.print(f"[good]✓[/] {escape(snapshot.about.title)}")
    for save in snapshot.saves:
        out.print(f"    {_save(save)}")
    for told in one.examined:
        out.print(f"    [dim]{escape(told.save.title)}, as it was read:[/]")
        print_established(out, told, 6)
        for fault in told.damage:
            out.print(indented(f"[bad]damaged, and kept as it is: {escape(fault)}[/]", 6))
    print_left_out(out, one.left_out)
    same = f", {one.unchanged} of them unchanged since the last one" if one.unchanged else ""
    out.print(
        f"  {counted(len(snapshot.files), 'file')}, {size(snapshot.size)}{same}. "
        f"[bold]{snapshot.id}[/]"
    )


def _save(save: KeptSave) -> str:
    facts = told_facts(save.facts[:2])
    return f"{save.slot:>2}  [save]{escape(save.title)}[/]  [dim]{escape(facts)}[/]"


@command.command("list")
@click.argument("where", required=False)
@click.option("--all", "every", is_flag=True, help=f"All, not only the newest {_SHOWN}.")
@json_option
@click.pass_obj
def list_(computer: Path | None, where: str | None, every: bool, as_json: bool) -> None:
    """List backups, the newest first; WHERE is a game or one of its editions.

    Those that were made before a crossing, an undo or a restore are listed too.
    """
    ferry = ferry_here(computer)
    kept, count, faults = ferry.backups.listed(where, None if every or as_json else _SHOWN)
    if as_json:
        echo_json({"backups": [kept_data(one) for one in kept]})
        return
    out = console()
    if not kept and not faults:
        raise NotFoundError(
            "There are no backups yet.", advice="`cferry backup saltglass` would make one."
        )
    shown = table("Backup", "Of", "Saves", "Why")
    for one in kept:
        edition, _, account = one.about.title.partition(" (")
        shown.add_row(
            f"{one.id}\n[dim]{when(one.made)}[/]",
            f"{escape(edition)}\n[dim]{escape(account.rstrip(')'))}\n{size(one.size)}[/]",
            _saves(one), escape(one.note or _KINDS[one.kind]),
        )  # fmt: skip
    out.print(shown)
    if len(kept) < count:
        out.print(f"[dim]… and {count - len(kept):,} older ones: cferry backup list --all[/]")
    for fault in faults:
        out.print(f"[bad]{escape(fault)}[/]", soft_wrap=True)
    out.print(f"[dim]They are in[/] [place]{escape(place(ferry.keeps.locker.folder))}[/]")


def _saves(one: Kept) -> str:
    lines = []
    for save in one.saves[:_FEW]:
        facts = told_facts(save.facts[:2])
        lines.append(f"{save.slot:>2}  [save]{escape(save.title)}[/]\n    [dim]{escape(facts)}[/]")
    if len(one.saves) > _FEW:
        lines.append(f"    [dim]… and {len(one.saves) - _FEW} more[/]")
    return "\n".join(lines)


@command.command("show")
@click.argument("ident", metavar="ID")
@json_option
@click.pass_obj
def show(computer: Path | None, ident: str, as_json: bool) -> None:
    """Show one backup with every file. ID may be some of it, or `latest`."""
    snapshot = ferry_here(computer).backups.snapshot(ident)
    if as_json:
        echo_json(snapshot_data(snapshot))
        return
    out = console()
    out.print(f"[bold]{snapshot.id}[/]  {when(snapshot.made)}, {_KINDS[snapshot.kind]}")
    out.print(f"  {escape(snapshot.about.title)}")
    if snapshot.note:
        out.print(f"  {escape(snapshot.note)}")
    out.print(f"  [place]{escape(place(Path(snapshot.root)))}[/]", soft_wrap=True)
    for save in snapshot.saves:
        out.print(f"    {_save(save)}")
    shown = table("File", "Last change", "Size", right=("Size",))
    for kept in snapshot.files:
        shown.add_row(escape(kept.path), when(kept.stamp), size(kept.size))
    out.print(shown)
    if snapshot.absent:
        out.print(f"  Not there then: {escape(', '.join(snapshot.absent[:5]))}")


@command.command("verify")
@click.argument("ident", metavar="[ID]", required=False)
@json_option
@click.pass_obj
def verify(computer: Path | None, ident: str | None, as_json: bool) -> None:
    """Read all that is kept (or one backup) to the last byte, and say what is damaged."""
    backups = ferry_here(computer).backups
    with bar("Reading", as_json) as tell:
        found = backups.verify(ident, tell)
    if as_json:
        echo_json(
            {
                "backups": found.snapshots,
                "objects": found.objects,
                "bytes": found.size,
                "faults": list(found.faults),
                "concerned": [
                    {
                        "id": one.ident,
                        "of": one.title,
                        "files": list(one.paths),
                        "saves": [save.title for save in one.saves],
                    }
                    for one in found.concerned
                ],
            }
        )
    else:
        _print_verified(found)
    if found.faults:
        raise click.exceptions.Exit(DAMAGED)


def _print_verified(found: Verified) -> None:
    out = console()
    what = (
        f"{counted(found.snapshots, 'backup')}, {counted(found.objects, 'content')}, "
        f"{size(found.size)}"
    )
    if not found.faults:
        out.print(f"[good]✓[/] All whole: {what}.")
        return
    out.print(f"[bad]{counted(len(found.faults), 'fault')}[/] in {what}:")
    for fault in found.faults[:20]:
        out.print(f"  {escape(fault)}", soft_wrap=True)
    for one in found.concerned:
        saves = ", ".join(f"{save.title} (slot {save.slot})" for save in one.saves) or "no save"
        out.print(f"  [care]{one.ident}[/] {escape(one.title)}: {escape(saves)}")
        for path in one.paths[:5]:
            out.print(f"      {escape(path)}")
    out.print(
        "Where those saves still are as they were, back them up once more: `cferry backup WHERE "
        "--reread` replaces a damaged content."
    )


@command.command("export")
@click.argument("ident", metavar="ID")
@click.option(
    "-o", "--to", "file", type=click.Path(path_type=Path), required=True, metavar="FILE.zip",
    help="The zip to write.",
)  # fmt: skip
@json_option
@click.pass_obj
def export(computer: Path | None, ident: str, file: Path, as_json: bool) -> None:
    """Write a backup as a zip that any program unpacks, and BagIt tools (RFC 8493) verify."""
    backups = ferry_here(computer).backups
    snapshot = backups.snapshot(ident)
    with bar("Writing", as_json) as tell:
        done = 0

        def add(count: int) -> None:
            nonlocal done
            done += count
            tell(done, snapshot.size)

        renamed = backups.export(snapshot.id, file, add)
    if as_json:
        echo_json({"id": snapshot.id, "file": str(file), "renamed": renamed})
        return
    out = console()
    out.print(
        f"[good]✓[/] {escape(str(file))}: {counted(len(snapshot.files), 'file')}, "
        f"{size(file.stat().st_size)}",
        soft_wrap=True,
    )
    for line in renamed:
        out.print(f"  [care]named otherwise:[/] {escape(line)}")


def _keep(name: str, what: str) -> Callable[[_C], _C]:
    default = getattr(Rules(), name)
    return click.option(
        f"--keep-{name}", name, type=click.IntRange(0), default=default, show_default=True,
        metavar="N", help=f"Keep {what}, of each folder of saves.",
    )  # fmt: skip


@command.command("prune")
@_keep("last", "the newest N")
@_keep("daily", "the newest of each of the last N days that have any")
@_keep("weekly", "the newest of each of the last N weeks")
@_keep("monthly", "the newest of each of the last N months")
@change_options
@json_option
@click.pass_obj
def prune(
    computer: Path | None, last: int, daily: int, weekly: int, monthly: int, dry_run: bool,
    yes: bool, as_json: bool,
) -> None:  # fmt: skip
    """Take old backups away, and say what that frees.

    Kept in any case: the newest backup of every save, and what an undo still needs.
    """
    ferry = ferry_here(computer)
    rules = Rules(last, daily, weekly, monthly)
    plan = ferry.backups.plan_pruning(rules)
    if as_json and not (yes or dry_run):
        raise WrongUseError("Nothing was pruned.", advice="Add --yes or --dry-run to --json.")
    if not as_json:
        _print_pruning(plan)
    done = False
    if (plan.goes or plan.objects) and not dry_run:
        agree("Take them away?", "pruned", yes=yes, ask=can_ask())
        plan, done = ferry.backups.prune(rules), True
    if as_json:
        echo_json(
            {
                "pruned": done,
                "goes": [kept_data(one) for one in plan.goes],
                "stays": dict(plan.stays),
                "frees": plan.frees,
            }
        )
    elif done:
        console().print(f"[good]✓[/] {size(plan.frees)} freed.")
    elif dry_run:
        console().print(escape(after_dry_run("--yes")), soft_wrap=True)


def _print_pruning(plan: Pruning) -> None:
    out = console()
    if not plan.goes and not plan.objects:
        out.print(f"Nothing to take away: all {counted(len(plan.stays), 'backup')} stay.")
        return
    if plan.goes:
        out.print(f"[bold]{counted(len(plan.goes), 'backup')} would go[/], the oldest first:")
        for one in plan.goes[::-1][:_SHOWN]:
            out.print(f"  {one.id}  {when(one.made)}  {escape(one.about.title)}  {_few(one)}")
        if len(plan.goes) > _SHOWN:
            out.print(f"  … and {len(plan.goes) - _SHOWN} more")
    needed = sum(why == "an undo needs it" for why in plan.stays.values())
    kept = f" ({needed} of them because `cferry undo` may need them)" if needed else ""
    out.print(f"{counted(len(plan.stays), 'backup')} stay{kept}. That frees {size(plan.frees)}.")


def _few(one: Kept) -> str:
    return escape(", ".join(save.title for save in one.saves[:3]))
