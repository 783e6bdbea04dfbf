"""`cferry pairs`: which file corresponds to which between two editions."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from clever_ferry.cli.described import berth_data
from clever_ferry.cli.exits import echo_json
from clever_ferry.cli.here import can_ask, choose, ferry_here
from clever_ferry.cli.options import give_option, json_option
from clever_ferry.cli.screen import console, counted, escape, heading, numbered, table
from clever_ferry.cli.ways import way_between
from clever_ferry.proving.relating import told_relation

if TYPE_CHECKING:
    from clever_ferry.finding.berths import Berth, OpenBerth
    from clever_ferry.proving.pairing import Pair, Pairs, Partner

__all__ = ["command"]


@click.command("pairs")
@click.argument("first", metavar="A")
@click.argument("second", metavar="B")
@give_option
@json_option
@click.pass_obj
def command(
    computer: Path | None, first: str, second: str, given: dict[str, str], as_json: bool
) -> None:
    """Show file by file what corresponds to what between two editions of a game.

    A and B are editions, or some of their slots: saltglass/tern:2 saltglass/depot. What has no
    partner is shown with the name that it would have on the other side. Nothing is changed.
    """
    ferry = ferry_here(computer)
    one, other, pairs = choose(
        lambda answers: ferry.pairs(
            first, second, given=given, from_account=answers.get("--from-account"),
            to_account=answers.get("--to-account"),
        ),
        ask=can_ask() and not as_json,
    )  # fmt: skip
    if as_json:
        echo_json(_data(one, other, pairs))
        return
    out = console()
    out.print(f"{heading(one.berth.title)}  [place]{escape(one.berth.address)}[/]   ↔   "
              f"{heading(other.berth.title)}  [place]{escape(other.berth.address)}[/]")  # fmt: skip
    for pair in pairs.pairs:
        _print_pair(pair, one.berth, other.berth)
    if pairs.shared:
        out.print("[save]For all saves of the account[/]")
        _print_partners(pairs.shared, one.berth, other.berth)
    for berth, rest in ((one.berth, pairs.first_rest), (other.berth, pairs.second_rest)):
        if rest:
            shown = ", ".join(rest[:6]) + (f" … and {len(rest) - 6} more" if len(rest) > 6 else "")
            out.print(
                f"No save's, and left alone: {counted(len(rest), 'file')} of "
                f"{escape(berth.edition.title)}: {escape(shown)}", soft_wrap=True
            )  # fmt: skip
    way = way_between(one.berth, other.berth, [pair.related for pair in pairs.pairs])
    if way:
        out.print(escape(way), soft_wrap=True)


def _print_pair(pair: Pair, one: Berth, other: Berth) -> None:
    a, b = pair.related.first, pair.related.second
    told = [
        f"[save]{escape(save.title)}[/] ({numbered(save.slot, berth.edition)})"
        for save, berth in ((a, one), (b, other))
        if save is not None
    ]
    relation = told_relation(pair.related)
    if a is None or b is None:
        where = one if b is None else other
        told.append(f"[dim]only in {escape(where.edition.title)}[/]")
        console().print("  ".join(told))
    else:
        console().print(f"{told[0]}  ↔  {told[1]}   [dim]{escape(relation)}[/]")
    _print_partners(pair.partners, one, other)


def _print_partners(partners: tuple[Partner, ...], one: Berth, other: Berth) -> None:
    shown = table("What", escape(one.edition.title), "", escape(other.edition.title))
    for partner in partners:
        arrows = {(True, True): "↔", (True, False): "→", (False, True): "←", (False, False): ""}
        arrow = arrows[partner.first is not None, partner.second is not None]
        shown.add_row(
            escape(partner.piece), _cell(partner.first, partner.would_first), arrow,
            _cell(partner.second, partner.would_second),
        )  # fmt: skip
    console().print(shown)


def _cell(name: str | None, would: str | None) -> str:
    if name is not None:
        return escape(name)
    return f"[dim]would be {escape(would)}[/]" if would else "[care]has no such piece[/]"


def _data(one: OpenBerth, other: OpenBerth, pairs: Pairs) -> dict[str, object]:
    return {
        "first": berth_data(one.berth),
        "second": berth_data(other.berth),
        "pairs": [
            {
                "first": pair.related.first.slot if pair.related.first else None,
                "second": pair.related.second.slot if pair.related.second else None,
                "first_is": pair.related.relation,
                "files": [vars(partner) for partner in pair.partners],
            }
            for pair in pairs.pairs
        ],
        "shared": [vars(partner) for partner in pairs.shared],
        "first_rest": list(pairs.first_rest),
        "second_rest": list(pairs.second_rest),
    }
