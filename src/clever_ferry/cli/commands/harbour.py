"""`cferry harbour`: names for places with saves: disks, prefixes, exports, sticks."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import click

from clever_ferry.cli.exits import echo_json
from clever_ferry.cli.here import agree, can_ask, ferry_here
from clever_ferry.cli.options import json_option
from clever_ferry.cli.screen import console, escape, place, table
from clever_ferry.errors import NotFoundError
from clever_ferry.links.server import is_link

if TYPE_CHECKING:
    from clever_ferry.finding.harbours import Harbour

__all__ = ["command"]


@click.group("harbour")
def command() -> None:
    """Give names to places with saves: a disk, a prefix, an export, a stick, a server's folder.

    A name stands after @ in an address: saltglass/depot@old-disk. Any folder can stand there
    without a name, too: saltglass/depot@/path/to/folder.

    A server's folder is sftp://player@host:2222/srv/saltglass, ftp:// and ftps://, or webdav://
    and webdavs://. Its path begins at the server's root; with /~/ before it, where the server
    puts you.
    """


@command.command("add")
@click.argument("name")
@click.argument("paths", metavar="PATH|ADDRESS...", nargs=-1, required=True)
@click.option(
    "--trust", metavar="FINGERPRINT", help="The server's key is this one (sftp); ask nobody."
)
@click.option("--keep-password", is_flag=True, help="Keep the password in this system's keyring.")
@json_option
@click.pass_context
def add(
    context: click.Context, name: str, paths: tuple[str, ...], trust: str | None,
    keep_password: bool, as_json: bool,
) -> None:  # fmt: skip
    """Name a folder, and say what it is recognised as.

    An export in zip files can be the folder that they are in, or the files themselves. A server's
    folder is named by its address, without a password: that is asked for. Nothing is written there.
    """
    harbours = ferry_here(context.obj).harbours
    if is_link(paths[0]):
        if len(paths) > 1:
            raise click.UsageError("A harbour is one folder of one server.", context)
        if trust is not None and not paths[0].lower().startswith("sftp://"):
            raise click.UsageError("--trust is for sftp:// alone.", context)
        harbour = harbours.servers.add(name, paths[0], trusted=trust, keep=keep_password)
    elif trust is not None or keep_password:
        raise click.UsageError("--trust and --keep-password are for servers.", context)
    else:
        there = click.Path(exists=True)
        known = [
            Path(str(there.convert(path, context.command.params[1], context))) for path in paths
        ]
        harbour = harbours.add(name, [path.resolve() for path in known])
    if as_json:
        echo_json(_data(harbour))
        return
    console().print(f"[good]✓[/] {escape(name)} is {escape(harbour.title)}.", soft_wrap=True)
    _print_problems([harbour])
    console().print(f"Next: cferry harbour check {name}" if harbour.link else "Next: cferry look")


@command.command("list")
@json_option
@click.pass_obj
def list_(computer: Path | None, as_json: bool) -> None:
    """List the places with saves: those that you have named, and those recognised by themselves."""
    ferry = ferry_here(computer)
    harbours = ferry.harbours.all()
    if as_json:
        echo_json({"harbours": [_data(one) for one in harbours]})
        return
    shown = table("Name", "What it is", "Where")
    shown.add_row(escape(ferry.computer.name), "this computer", "")
    for one in harbours:
        what = escape(one.title) if one.there else "[care]not there now[/]"
        if not one.named:
            what += "\n[dim]recognised by itself[/]"
        shown.add_row(escape(one.name), what, "\n".join(escape(place(p)) for p in one.places))
    console().print(shown)
    _print_problems(harbours)


def _print_problems(harbours: Sequence[Harbour]) -> None:
    for one in harbours:
        for problem in one.problems:
            console().print(f"[care]{escape(one.name)}:[/] {escape(problem)}", soft_wrap=True)


@command.command("remove")
@click.argument("name")
@click.pass_obj
def remove(computer: Path | None, name: str) -> None:
    """Forget a name. The folder and what is in it stay as they are."""
    path = ferry_here(computer).harbours.remove(name)
    console().print(f"{escape(name)} is forgotten; {escape(path)} stays as it is.")


@command.command("check")
@click.argument("name", metavar="NAME|ADDRESS")
@json_option
@click.pass_obj
def check(computer: Path | None, name: str, as_json: bool) -> None:
    """Find out what works at a server, before anything is at stake.

    It is tried in a folder that is made there for that, and removed again.
    """
    found = ferry_here(computer).harbours.servers.probe(name)
    if as_json:
        echo_json({
            "harbour": name,
            "tried": [
                {"what": one.what, "works": one.works, "told": one.told, "follows": one.follows}
                for one in found
            ],
        })  # fmt: skip
        return
    shown = table("", f"At {escape(name)}", "")
    for one in found:
        mark = "[good]✓[/]" if one.works else "[care]–[/]"
        told = escape(one.told) + (f"\n[care]{escape(one.follows)}[/]" if one.follows else "")
        shown.add_row(mark, escape(one.what), told)
    console().print(shown)
    works = {one.what: one.works for one in found}
    if works.get("write") and works.get("read back"):
        console().print("Saves can be carried there and back.\nNext: cferry look")
    else:
        console().print("Saves can be read there, and not be carried there.")


@command.command("free")
@click.argument("name", metavar="NAME|ADDRESS")
@click.option("-y", "--yes", is_flag=True, help="Do not ask.")
@click.pass_obj
def free(computer: Path | None, name: str, yes: bool) -> None:
    """Take away another computer's claim on a server's folder.

    A change claims the folder that it works in, so that no other computer changes it meanwhile. A
    computer that was cut short and is gone for good never takes its claim back: then this does.
    """
    servers = ferry_here(computer).harbours.servers
    claims = servers.claims(name)
    if not claims:
        raise NotFoundError(f"Nobody has claimed anything at {name}.")
    for folder, told in claims:
        console().print(f"{escape(folder)}\n  {escape(told)}", soft_wrap=True)
    console().print(
        "If that computer is still at work there, what both write is mixed up. What it was about "
        "to change may be half: check the saves afterwards."
    )
    agree("Take the claim away?", "taken away", yes=yes, ask=can_ask())
    servers.free(name)
    console().print(f"[good]✓[/] Nobody has a claim there now.\nNext: cferry slots GAME@{name}")


def _data(harbour: Harbour) -> dict[str, object]:
    return {
        "name": harbour.name,
        "folder": harbour.places[0],
        "paths": list(harbour.places),
        "named": harbour.named,
        "there": harbour.there,
        "kind": harbour.kind,
        "system": _system(harbour),
        "users": list(harbour.users),
        "problems": list(harbour.problems),
    }


def _system(harbour: Harbour) -> str | None:
    known = harbour.computers and not harbour.export and harbour.link is None
    return harbour.computers[0].system if known else None
