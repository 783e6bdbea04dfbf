"""Grafts as jobs: parts of one save, planned into another. `Ferry` has them."""

from __future__ import annotations

import dataclasses
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from msgspec.structs import replace

from clever_ferry.cargo import Save, digest_of
from clever_ferry.crossing.plan import Plan
from clever_ferry.crossing.planning import make_plan
from clever_ferry.crossing.rules import RULES, notes_on
from clever_ferry.errors import (
    ChoiceNeededError,
    DamagedError,
    NotFoundError,
    NotProvenError,
    WrongUseError,
)
from clever_ferry.finding import Computer, open_berth, parse_address
from clever_ferry.finding.berths import OpenBerth
from clever_ferry.finding.signs import signs_of
from clever_ferry.grafting.merging import Lost, Merged, merge
from clever_ferry.grafting.wishes import Choices, Wishes, wishes_of
from clever_ferry.grafting.writing import (
    differing,
    facts_then,
    refuse_nested,
    with_names,
    with_pieces,
    written,
)
from clever_ferry.keeping.keeps import Keeps
from clever_ferry.layers import Known
from clever_ferry.model import ValidationError, convert, parse_toml
from clever_ferry.noting import Noting
from clever_ferry.places import Places
from clever_ferry.recipes.edition import Game
from clever_ferry.recipes.tables import Table, read_tables

__all__ = [
    "Choices",
    "Graft",
    "Grafts",
    "Side",
    "choices_in",
    "choices_text",
    "parts_of",
    "plan_graft",
]

_LARGEST = 1 << 20


@dataclass(frozen=True)
class Side:
    """A save that rows come from or go into, where it lies, and its tables."""

    opened: OpenBerth
    save: Save
    tables: Mapping[str, Table]

    @property
    def known(self) -> Known:
        """What is known of its berth."""
        return self.opened.known


@dataclass(frozen=True)
class Graft:
    """What becomes of a save by parts of another; nothing is written yet."""

    source: Side
    target: Side
    choices: Choices
    """What was chosen, what usually goes included."""
    wishes: Wishes
    merged: Mapping[str, Merged]
    then: Mapping[str, Table]
    """The tables as they are then, read out of what will be written."""
    after: Save
    plan: Plan
    """What it takes: the save onto what it was."""
    maps: tuple[str, str] | None = None
    """The maps that the two are on, where they are two."""
    stays: tuple[str, ...] = ()
    """The pieces of the save that are as they were, to the byte."""


def parts_of(game: Game) -> dict[str, tuple[str, bool]]:
    """Return what can be taken of a game's saves: labels by name, and whether it usually goes."""
    found = {name: (part.label or name, part.usual) for name, part in game.parts.items()}
    for name, table in game.tables.items():
        if table.rows.endswith("/*") or table.rows.count("/") > 1:  # else they are whole pieces
            found.setdefault(name, (table.label or name, False))
    return found


def side_of(opened: OpenBerth, save: Save) -> Side:
    """Return a save with all its tables; raises DamagedError where one can't be read."""
    game = opened.berth.game
    if save.problems:
        raise DamagedError(
            f"{save.title} is damaged, so nothing is taken out of it or put into it.",
            details=tuple(f"  {one}" for one in save.problems),
        )
    tables = read_tables(game.tables, opened.berth.edition.reader, save, opened.known)
    for table in tables:
        if not table.all_held:
            raise DamagedError(
                f"Not all {table.label} of {save.title} can be read.",
                details=tuple(f"  {one}" for one in table.troubles),
            )
    return Side(opened, save, {table.name: table for table in tables})


def plan_graft(
    source: Side, target: Side, choices: Choices, given: Mapping[str, str], *,
    newer_ok: bool = False,
) -> Graft:  # fmt: skip
    """Plan to take parts of one save into another of the same game; nothing is written.

    `newer_ok`: the target's game is as new as the one that saved the source. Raises RefusedError
    where it is not known to be, WrongUseError and UnknownNameError where the choices can't be,
    ChoiceNeededError where references would lead nowhere, UnsupportedError where rows of a form
    can't be carried.
    """
    game = target.opened.berth.game
    if source.opened.berth.game.id != game.id:
        raise WrongUseError(
            f"These are saves of two games: {source.opened.berth.game.title} and {game.title}."
        )
    if (source.opened.berth.root, source.save.fields) == (target.opened.berth.root,
                                                          target.save.fields):  # fmt: skip
        raise WrongUseError("Both are the same save.")
    roles = [role for role, info in game.pieces.items() if not info.shared]
    waived = {rule.waiver for rule in RULES if rule.waiver} - (set() if newer_ok else {"newer-ok"})
    notes_on((source.save,), source.opened.berth.address, target.opened, waived)
    usual = tuple(name for name, part in game.parts.items() if part.usual)
    if not choices.parts and not choices.whole:
        choices = replace(choices, parts=usual)
    if not choices.parts and not choices.whole:
        raise ChoiceNeededError(
            "Say what is to be taken.",
            details=(
                *(f"  --part {name}  {label}" for name, (label, _) in parts_of(game).items()),
                *(f"  --whole {role}  {game.pieces[role].label or role}" for role in roles),
            ),
            advice="docs/grafts.md says how to choose.",
        )  # fmt: skip
    wishes = wishes_of(choices, game.parts, game.tables, roles)
    refuse_nested(game.tables, list(wishes.tables))
    maps = _maps(game, source.save, target.save)
    here = target
    if wishes.pieces:
        own = with_pieces(game, target.save, source.save, wishes.pieces)
        edition = target.opened.berth.edition
        own = with_names(game, edition.reader, own, target.known, target.save)
        here = side_of(target.opened, own)
    merged, lost = merge(
        game.tables, source.tables, here.tables, wishes, elsewhere=maps is not None
    )
    if lost:
        raise _lost(game, lost, source, target)
    _refuse_renumbered(game, wishes, merged)
    reader = target.opened.berth.edition.reader
    after = written(
        game, reader, (source.save, source.known), (here.save, here.known),
        (source.tables, here.tables), merged,
        {name: table.count for name, table in target.tables.items()},
    )  # fmt: skip
    then, faults = differing(game, reader, after, here.known, merged,
                             (source.tables, here.tables))  # fmt: skip
    # Nothing leads nowhere, or stands twice, that did not before.
    faults += [f"{table.label}: {told}" for name, table in then.items() for told in table.troubles
               if told not in target.tables[name].troubles]  # fmt: skip
    if faults:
        raise NotProvenError(
            "What would be written does not read back as it should, so nothing was changed.",
            details=tuple(f"  {fault}" for fault in faults[:10]),
            advice="Take along what it refers to, or name fewer whole pieces.",
        )
    after = facts_then(reader, after, here.known)
    was = {piece.key: digest_of(piece.payload) for piece in target.save.pieces}
    now = {piece.key: digest_of(piece.payload) for piece in after.pieces}
    if was == now:
        raise NotFoundError(
            f"{target.save.title} would be as it is: nothing of what was named is otherwise."
        )
    opened = target.opened
    crossing = make_plan(
        replace(opened, listing=replace(opened.listing, saves=(after,))), opened, chosen=None,
        slots=None, given=given, as_it_was=True, itself=True,
    )  # fmt: skip
    stays = tuple(piece.title for piece in after.pieces if was.get(piece.key) == now[piece.key])
    return Graft(source, target, choices, wishes, merged, then, after, crossing, maps, stays)


def _refuse_renumbered(game: Game, wishes: Wishes, merged: Mapping[str, Merged]) -> None:
    """Raise WrongUseError where a whole piece, which stays as it is, names rows by an old id."""
    for name, info in game.tables.items():
        if not {*info.roles} & {*wishes.pieces}:
            continue
        for column in info.columns.values():
            other = game.tables.get(column.refers or "")
            edits = merged[column.refers or ""].there_edits if other is not None else {}
            if other is not None and any(other.id in own for own in edits.values()):
                raise WrongUseError(
                    f"Some {column.refers} get other ids than those that {name} name, and a whole "
                    "piece stays as it is.",
                    advice=f"Take its rows: --part {name}",
                )


def _maps(game: Game, one: Save, other: Save) -> tuple[str, str] | None:
    facts = [save.fact(game.map or "") for save in (one, other)]
    texts = [fact.text if fact is not None else "" for fact in facts]
    return (texts[0], texts[1]) if texts[0] != texts[1] else None


def _lost(game: Game, lost: list[Lost], source: Side, target: Side) -> ChoiceNeededError:
    """Return what is said where references would lead nowhere, with what can be done."""
    lines, ways = [], []
    for one in lost:
        label, refers = (source.tables[name].label for name in (one.table, one.refers))
        ids = ", ".join(one.ids[:5]) + (" …" if len(one.ids) > 5 else "")
        if one.comes:
            lines.append(
                f"  {one.rows:,} of the {label} that come name {refers} {ids}, and "
                f"{target.save.title} has no such ones"
            )
            info = game.tables[one.refers]
            each = [role for role in info.roles if game.pieces[role].each]
            along = f"--whole {each[0]}" if each else f"--part {one.refers}"
            ways.append(f"take along the {refers} that they name: {along}")
            ways.append(f"say which of {refers} it is there: --map {one.refers}:{one.ids[0]}=…")
        else:
            lines.append(f"  {one.rows:,} of the {label} that stay name {refers} {ids}, which go")
            ways.append(f"take {label} along, too: --part {one.table}")
    return ChoiceNeededError(
        "Some of it would lead nowhere, so nothing was planned.",
        details=tuple(lines),
        advice="\n".join(
            [
                "Either",
                *(f"  {way}" for way in dict.fromkeys(ways)),
                "  leave such rows out: --leave-lost",
            ]
        ),
    )


class Grafts:
    """Grafts between saves at all places that a ferry knows."""

    def __init__(self, computer: Computer, places: Places, noting: Noting, keeps: Keeps) -> None:
        self._computer, self._places = computer, places
        self._noting, self._keeps = noting, keeps

    def plan(
        self, source: str, target: str, choices: Choices, *, from_account: str | None = None,
        to_account: str | None = None, given: Mapping[str, str] | None = None,
        newer_ok: bool = False,
    ) -> Graft:  # fmt: skip
        """Plan to take parts of one save (an address) into another; nothing is written.

        `Ferry.carry_out(graft.plan)` does so: backed up, proved, and undone like any crossing.
        Raises what `plan_graft` does.
        """
        taken = self._noting.tables(source, [], from_account, given)
        address = parse_address(target)
        berth = self._places.berth(address, to_account, writing=True)
        self._keeps.journal.refuse_open(berth.folder)
        opened = open_berth(berth, given=given)
        save = self._noting.one(opened, address.slots)
        graft = plan_graft(
            side_of(taken.opened, taken.save), side_of(opened, save), choices, given or {},
            newer_ok=newer_ok,
        )  # fmt: skip
        signs = signs_of(self._computer, berth)
        return dataclasses.replace(graft, plan=replace(graft.plan, signs=signs))


def choices_in(path: Path) -> Choices:
    """Read a file of choices; raises NotFoundError, WrongUseError where it can't be."""
    try:
        raw = path.read_bytes()[: _LARGEST + 1]
    except OSError as error:
        raise NotFoundError(f"{path} can't be read: {error.strerror}.") from error
    try:
        return convert(parse_toml(raw), Choices)
    except (ValueError, RecursionError, ValidationError) as error:
        raise WrongUseError(
            f"{path} is no file of choices: {error}.",
            advice="cferry graft … --write-choices FILE writes one.",
        ) from None


def choices_text(choices: Choices) -> str:
    """Return choices as a file has them."""
    import tomlkit

    told = {name: getattr(choices, name) for name in Choices.__struct_fields__}
    return tomlkit.dumps({name: list(value) if isinstance(value, tuple) else value
                          for name, value in told.items()})  # fmt: skip
