"""`cferry cross`: carry saves from one edition to another."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from functools import wraps
from itertools import zip_longest
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click
from rich.console import Console

from clever_ferry.cli.again import after_dry_run
from clever_ferry.cli.certain import established_data, print_established, print_reached
from clever_ferry.cli.described import plan_data, proof_data
from clever_ferry.cli.exits import IN_PART, NOT_LOADED, echo_json
from clever_ferry.cli.games import agree_to_start, print_verdict, verdict_data
from clever_ferry.cli.here import agree, can_ask, choose, ferry_here
from clever_ferry.cli.options import change_options, closed_option, give_option, json_option
from clever_ferry.cli.plans import print_plan
from clever_ferry.cli.progress import one_by_one, telling
from clever_ferry.cli.screen import (
    console,
    counted,
    escape,
    facts_line,
    heading,
    place,
    print_unkept,
    save_line,
    steps,
)
from clever_ferry.cli.waiting import planned_in_time
from clever_ferry.crossing.aftermath import steps_after
from clever_ferry.crossing.rules import RULES
from clever_ferry.errors import FerryError, RefusedError, WrongUseError
from clever_ferry.finding.addresses import address_of
from clever_ferry.parcels import is_parcel
from clever_ferry.recipes.agreeing import agreed_places, rebuilt_pieces

if TYPE_CHECKING:
    from clever_ferry.certainty import SaveLevel
    from clever_ferry.crossing.carrying import Crossed
    from clever_ferry.crossing.plan import Plan
    from clever_ferry.judging.verdict import Verdict

__all__ = ["command"]

_COMPARED = {
    "read": "Read back and the same", "digest": "The same by the server's own digests",
    "size": "Sent, and of the right size",
}  # fmt: skip


def _waivers(command: Callable[..., None]) -> Callable[..., None]:
    """Add an option for each rule that the user's word turns; the command gets those given."""
    rules = {rule.waiver.replace("-", "_"): rule for rule in RULES if rule.waiver}

    @wraps(command)
    def inner(**options: Any) -> None:
        waived = [rule.waiver for name, rule in rules.items() if options.pop(name)]
        command(**options, waived=waived)

    found: Callable[..., None] = inner
    for rule in reversed(rules.values()):
        found = click.option(f"--{rule.waiver}", is_flag=True, help=rule.means)(found)
    return found


@click.command("cross")
@click.argument("places", metavar="[FROM] TO", nargs=-1, required=True)
@click.option(
    "--from-file", type=click.Path(path_type=Path), metavar="FILE",
    help="Take the saves from a downloaded file, archive or folder, instead of FROM.",
)  # fmt: skip
@click.option(
    "--with", "sharing", multiple=True, metavar="PIECE",
    help="Also carry a piece that all saves share, such as options, over the target's own.",
)  # fmt: skip
@click.option("--whole-only", is_flag=True, help="Leave damaged saves behind and carry the others.")
@_waivers
@change_options
@click.option(
    "--report", type=click.Path(path_type=Path, dir_okay=False), metavar="FILE.html",
    help="Also write what was done as a page; there must be none of that name yet.",
)  # fmt: skip
@click.option(
    "--with-game", is_flag=True,
    help="Then have the target's game itself load it, on a copy; you are asked before, once.",
)  # fmt: skip
@click.option(
    "--wait", is_flag=True,
    help="Where the target's game must do something first (be started once, save a throwaway, be "
    "closed), wait for that, and go on.",
)  # fmt: skip
@click.option(
    "--no-tell", is_flag=True,
    help="Leave the target's config as it is, where that names the save that its game loads.",
)  # fmt: skip
@click.option(
    "--quick", is_flag=True,
    help="Where TO is on a server: do not read back what was sent, but look at its size alone. "
    "Less is proved then, and that is said.",
)  # fmt: skip
@click.option(
    "--as-zip", type=click.Path(path_type=Path), metavar="FILE.zip",
    help="Write what TO (an edition) would get into a zip, for a server's panel that only takes "
    "files, and say what to do with it.",
)  # fmt: skip
@click.option(
    "--part-size", type=click.IntRange(1, 1_000_000), metavar="MIB",
    help="With --as-zip: several zips of at most so many MiB of files each.",
)  # fmt: skip
@click.option("--replace", is_flag=True, help="With --yes: saves in the target may be replaced.")
@click.option(
    "--from-account", metavar="NAME", help="Whose saves to take, where several have some."
)
@click.option("--to-account", metavar="NAME", help="Whose saves to write, where several have some.")
@give_option
@closed_option
@json_option
@click.pass_obj
def command(
    computer: Path | None, places: tuple[str, ...], from_file: Path | None,
    sharing: tuple[str, ...], whole_only: bool, waived: list[str], dry_run: bool,
    report: Path | None, with_game: bool, wait: bool, no_tell: bool, quick: bool,
    as_zip: Path | None, part_size: int | None, yes: bool, replace: bool,
    from_account: str | None, to_account: str | None, given: dict[str, str], game_closed: bool,
    as_json: bool,
) -> None:  # fmt: skip
    """Carry saves from one edition of a game to another.

    FROM and TO are editions (saltglass/tern), with slots if you want only some or others:
    `cferry cross saltglass/tern:2 saltglass/depot:5`. With no slot after TO, each save goes
    onto its own story where that is behind there, else to a free slot; another story is never
    replaced unless its slot is named. TO:free (or TO:new) only takes free ones.

    TO:throwaway is the target's newest save that was hardly played: make one in its game, and
    what you carry takes its place and its identity.

    With --from-file, a downloaded save goes into a slot of TO; which edition it is from is told
    by its content.

    The plan is shown first. What the target holds is backed up, the saves are read back
    and compared afterwards, and `cferry undo` puts everything back.
    """
    if report is not None:
        from clever_ferry.cli.reports import refuse_no_page

        refuse_no_page(report)
    places = _without_to(places)
    if from_file is None and len(places) == 2 and is_parcel(Path(places[0])):
        from_file, places = Path(places[0]), places[1:]
    if from_file is None and len(places) == 2 and _is_file(places[0]):
        raise WrongUseError(
            f"{places[0]} is a file or folder, and no address of saves.",
            advice=f'Say: cferry cross --from-file "{places[0]}" {places[1]}',
        )
    if len(places) != (1 if from_file else 2):
        raise WrongUseError(
            "With --from-file, only TO is named." if from_file else "Both FROM and TO are needed.",
            advice="Such as: cferry cross saltglass/tern:2 saltglass/depot:5",
        )
    source, target = f"file:{from_file}" if from_file else places[0], places[-1]
    ferry = ferry_here(computer)
    if as_zip is not None:
        from clever_ferry.cli.uploading import upload

        barred = {
            "--report": report, "--with-game": with_game, "--wait": wait, "--no-tell": no_tell,
            "--quick": quick, "--yes": yes, "--replace": replace, "--to-account": to_account,
            "--with": sharing, "--whole-only": whole_only,
            "--game-closed": game_closed, "--dry-run": dry_run, "--from-file": from_file,
        }  # fmt: skip
        upload(
            ferry, source, target, as_zip, [name for name, is_said in barred.items() if is_said],
            account=from_account, part_size=part_size, given=given, waived=waived, as_json=as_json,
        )  # fmt: skip
        return
    if part_size is not None:
        raise WrongUseError("--part-size is about the parts that --as-zip writes.")
    ask = can_ask() and not as_json and not yes
    if with_game:
        agree_to_start(ferry.asking, target, ask=ask)
        ferry.asking.require(target)

    def attempt(target: str) -> Plan:
        return choose(
            lambda answers: ferry.plan(
                source, target, given=given,
                from_account=answers.get("--from-account", from_account),
                to_account=answers.get("--to-account", to_account),
                sharing=sharing, whole_only=whole_only, waived=waived, tell=not no_tell,
            ),
            ask=ask,
        )  # fmt: skip

    plan = planned_in_time(attempt, target, wait=wait, ask=ask, closed=game_closed)
    if quick and not plan.target.berth.folder.shore.capabilities.shared:
        raise WrongUseError(
            f"--quick is for servers, and {plan.target.berth.address} is on a disk here.",
            advice="Leave it out: reading back from a disk takes no time worth saving.",
        )
    out = console()
    if not as_json:
        print_plan(out, plan)
    if dry_run:
        if as_json:
            echo_json({"plan": plan_data(plan), "carried": False})
        else:
            out.print(escape(after_dry_run(*_assent(plan))), soft_wrap=True)
        return
    _agree(plan, yes=yes, replace=replace, ask=ask)
    before = []
    if report is not None:
        from clever_ferry.cli.reports import before_crossing, write_crossing

        before = before_crossing(ferry, plan)
    with telling(as_json) as tell:
        crossed = ferry.carry_out(plan, tell, game_closed=game_closed, quick=quick)
    verdicts: list[Verdict] = []
    if with_game:
        carried = [proof.save for proof in crossed.proofs]
        with one_by_one("Asking the game", as_json) as count:
            verdicts = ferry.asking.ask_there(plan.target.berth, carried, given, count)
        ferry.asking.note(crossed.number, verdicts)
    written = report is not None
    if report is not None:
        try:
            write_crossing(ferry, plan, crossed, before, verdicts, report)
        except (FerryError, OSError) as error:  # the crossing stands all the same
            told, written = getattr(error, "what", str(error)), False
            console(err=True).print(
                f"[care]The page was not written:[/] {escape(told)} "
                f"cferry log show {crossed.number} --html FILE.html writes a shorter one.",
                soft_wrap=True,
            )
    if as_json:
        proofs = [
            {
                **proof_data(proof),
                "established": established_data(examined),
                "level": _level(crossed, verdict),
                "game": verdict_data(verdict),
            }
            for proof, examined, verdict in zip_longest(crossed.proofs, crossed.examined, verdicts)
        ]
        echo_json({
            "plan": plan_data(plan), "carried": True, "crossing": crossed.number,
            "backup": crossed.backup, "compared": crossed.compared, "proofs": proofs,
            "not_kept": crossed.unkept,
            "report": str(report) if written else None,
        })  # fmt: skip
    else:
        _print_crossed(out, plan, crossed, verdicts)
        if written:
            out.print(f"[good]✓[/] All of it is written down in {escape(str(report))}.",
                      soft_wrap=True)  # fmt: skip
    if not all(verdict.loads for verdict in verdicts):
        raise click.exceptions.Exit(NOT_LOADED)
    if plan.left:
        raise click.exceptions.Exit(IN_PART)


def _without_to(places: tuple[str, ...]) -> tuple[str, ...]:
    """Let people say `cross A to B`."""
    if len(places) == 3 and places[1].casefold() in ("to", "into", "->"):
        return places[0], places[2]
    return places


def _is_file(text: str) -> bool:
    """Tell whether a path stands where an address belongs."""
    return Path(text).exists() and (Path(text).suffix != "" or text[:1] in "./~\\")


def _assent(plan: Plan) -> list[str]:
    return ["--yes", "--replace"] if plan.replaced else ["--yes"]


def _agree(plan: Plan, *, yes: bool, replace: bool, ask: bool) -> None:
    count, target = len(plan.replaced), plan.target.berth
    what = "1 save" if count == 1 else f"{count} saves"
    there = RefusedError(
        "The target already has a save in that slot."
        if count == 1
        else f"The target already has saves in {count} of those slots.",
        details=tuple(
            f"  {save.slot}  {save.title}  ({facts_line(save)})" for save in plan.replaced
        ),
        advice="Add --replace to replace what is there (it is backed up first), or put it "
        f"beside it: {target.address}:{'free' if target.edition.numbered else 'NEW NAME'}",
        again=("--replace",),
    )
    agree(
        f"Carry it over, and replace {what} of the target (backed up first)?"
        if count
        else "Carry it over?",
        "carried", yes=yes, ask=ask, refused=there if count and not replace else None,
        advice="Look at the plan, then add --yes to carry it out"
        + (" and --replace to replace what is there." if count else "."),
        again=tuple(_assent(plan)),
    )  # fmt: skip


def _print_crossed(out: Console, plan: Plan, crossed: Crossed, verdicts: Sequence[Verdict]) -> None:
    pieces = sum(proof.pieces for proof in crossed.proofs)
    facts = [fact for proof in crossed.proofs for fact in proof.facts if not fact.free]
    same = sum(fact.same for fact in facts)
    out.print(heading(_COMPARED[crossed.compared]))
    for proof, examined, verdict in zip_longest(crossed.proofs, crossed.examined, verdicts):
        out.print(f"  [good]✓[/] {save_line(proof.save, plan.target.berth.edition)}")
        print_established(out, examined, 8)
        if verdict is not None:
            print_verdict(out, verdict, 8)
    agreed = sum(agreed_places(proof.save) for proof in crossed.proofs)
    but = f" but for {counted(agreed, 'value')} that must agree here" if agreed else ""
    if rebuilt := sum(rebuilt_pieces(proof.save) for proof in crossed.proofs):
        but += f" ({counted(rebuilt, 'database')} built anew for that, with the same rows)"
    told = f", {counted(same, 'fact')} the same" if same else ""
    where, count = escape(plan.target.berth.edition.title), counted(pieces, "piece")
    if crossed.compared == "read":
        out.print(f"  Read back from {where}: {count} byte for byte as carried{but}{told}.")
    elif crossed.compared == "digest":
        out.print(
            f"  At {where}: {count} as carried{but}{told}. What stands there was not read back: "
            "its server reckoned the digests, and they are those of what was sent."
        )
    else:
        out.print(
            f"  At {where}: {count}. [care]Their sizes are those of what was sent; more was not "
            "looked at (--quick).[/]"
        )
    if verdicts:
        out.print(f"  {escape(_whether_it_loads(crossed, verdicts))}", soft_wrap=True)
    for fact in facts:
        if not fact.same:
            line = f"{fact.label} was {fact.before} and is {fact.after}, as it may after a move."
            out.print(f"  {escape(line)}")
    if plan.told:
        files = " and ".join(one.path for one in plan.told)
        out.print(f"  Told in {escape(files)}: that is the save to load next.", soft_wrap=True)
    print_unkept(crossed.unkept)
    after = steps_after(plan, [proof.save for proof in crossed.proofs], place)
    if after:
        out.print("\n" + heading("Now in the game"))
        out.print(steps(after), soft_wrap=True)
    out.print()
    level = _level(crossed, *verdicts)
    berth, asks = plan.target.berth, ""
    if berth.edition.loader is not None and len(crossed.proofs) == 1:
        where = address_of(berth.address, crossed.proofs[0].save)
        asks = f"cferry check {where} --with-game"
    if level is None and len(crossed.proofs) == 1:
        where = address_of(berth.address, crossed.proofs[0].save)
        out.print(f"To read it back after all: cferry check {escape(where)}", soft_wrap=True)
    print_reached(out, level, crossed.number, asks)
    out.print(f"To put it all back: cferry undo {crossed.number}")


def _level(crossed: Crossed, *verdicts: Verdict | None) -> SaveLevel | None:
    """Return the level that saves have reached together, None where none is shown."""
    if verdicts and all(verdict is not None and verdict.loads for verdict in verdicts):
        return "loads"
    return None if crossed.compared == "size" else "same"


def _whether_it_loads(crossed: Crossed, verdicts: Sequence[Verdict]) -> str:
    """Return in a sentence what its game has made of it."""
    loads = sum(verdict.loads for verdict in verdicts)
    if loads == len(verdicts):
        return "The game itself has loaded it."
    return (
        f"The game itself has loaded {loads} of {counted(len(verdicts), 'save')}: look "
        f"there, or put it all back with cferry undo {crossed.number}"
    )
