"""`cferry cross --as-zip`: what is written for a server's panel, and what to do with it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path

from clever_ferry.cli.described import plan_data
from clever_ferry.cli.exits import echo_json
from clever_ferry.cli.plans import print_plan
from clever_ferry.cli.screen import console, escape, place, steps
from clever_ferry.crossing.aftermath import steps_before
from clever_ferry.crossing.plan import Plan
from clever_ferry.errors import WrongUseError
from clever_ferry.ferry import Ferry
from clever_ferry.finding import parse_address
from clever_ferry.uploads import folder_there, write_upload

__all__ = ["upload"]


def upload(
    ferry: Ferry, source: str, target: str, file: Path, barred: Sequence[str], *,
    account: str | None, part_size: int | None, given: Mapping[str, str], waived: Sequence[str],
    as_json: bool,
) -> None:  # fmt: skip
    """Write the zips, and say what they are for. `barred` are options that mean nothing here."""
    if barred:
        raise WrongUseError(
            f"{barred[0]} means nothing with --as-zip, as nothing is changed but the zip is made."
        )
    destination = parse_address(target)
    if destination.harbour is not None or destination.account is not None:
        raise WrongUseError(
            f"With --as-zip, TO is only an edition: {destination.game}/{destination.edition or ''}"
        )
    game, edition = ferry.places.game_and_edition(destination)
    opened = ferry.slots(source, account, given, lenient=False)[0]

    def shown(plan: Plan) -> None:
        if not as_json:
            print_plan(console(), plan, lambda folder: folder_there(plan))

    done = write_upload(
        opened, game, edition, destination.slots, file, given=given, waived=waived, shown=shown,
        part_size=part_size << 20 if part_size is not None else None,
    )  # fmt: skip
    if as_json:
        echo_json({
            "plan": plan_data(done.plan), "carried": False,
            "files": [str(one) for one in done.parts], "steps": list(done.steps),
            "lines": [{"file": name, "text": text} for name, text in done.lines],
        })  # fmt: skip
        return
    out = console()
    named = ", ".join(escape(place(one)) for one in done.parts)
    out.print(f"[good]✓[/] Written, read back and the same: {named}", soft_wrap=True)
    out.print("Nothing stands there yet. What to do:")
    told = len(steps_before(done.plan))  # with the plan
    out.print(steps(done.steps[told:]), soft_wrap=True)
