"""What a target may have against a save beyond its slot: looked at before anything is written.

A rule is one class here and one line in `RULES`: what it looks at, what it says, and the word by
which the user can answer that it is not so.
"""

from __future__ import annotations

import re
from abc import ABC, abstractmethod
from collections.abc import Collection, Iterator, Sequence

from clever_ferry.cargo import Piece, Save
from clever_ferry.crossing.handing_over import guests_of, host_of
from clever_ferry.errors import Cure, FerryError, RefusedError, WrongUseError
from clever_ferry.finding.addresses import address_of
from clever_ferry.finding.berths import OpenBerth
from clever_ferry.finding.installed import installed_packs, installed_version
from clever_ferry.moving.names import folded
from clever_ferry.recipes.models import LimitInfo

__all__ = ["RULES", "Rule", "notes_on", "refusals"]


class Rule(ABC):
    """One thing that a target's game may refuse, or do to a save."""

    waiver = ""
    """The word by which the user says that it is not so; '' where nobody can."""
    means = ""
    """What the user says by it."""
    silent = False
    """Whether the user's word leaves nothing to be noted, either."""
    in_game: Cure = ""
    """What cures it in the target's own game."""
    standing = True
    """Whether it also holds for saves that stand there already."""

    @abstractmethod
    def look(
        self, saves: Sequence[Save], where: str, target: OpenBerth
    ) -> Iterator[str | RefusedError]:
        """Yield what is to be noted of saves, and why some are refused; `where` they are from."""

    def refusal(self, what: str, *, advice: str, details: tuple[str, ...] = ()) -> RefusedError:
        """Return a refusal that the user's word would turn."""
        again = (f"--{self.waiver}",) if self.waiver else ()
        return RefusedError(what, details=details, advice=advice, again=again, in_game=self.in_game)


def notes_on(
    saves: Sequence[Save], where: str, target: OpenBerth, waived: Collection[str]
) -> tuple[str, ...]:
    """Return what is to be said of saves that are to be carried.

    Raises RefusedError for the first that the target is known to refuse, but for rules that are
    `waived`, and WrongUseError where that names none.
    """
    known = [rule.waiver for rule in RULES if rule.waiver]
    for word in waived:
        if word not in known:
            raise WrongUseError(f"{word!r} waives no rule; there are: {', '.join(known)}.")
    notes = []
    for rule in RULES:
        given = rule.waiver in waived
        for found in rule.look(saves, where, target) if not (given and rule.silent) else ():
            if isinstance(found, str):
                notes.append(found)
            elif not given:
                raise found
    return tuple(notes)


def refusals(opened: OpenBerth, saves: Sequence[Save]) -> list[RefusedError]:
    """Return why the game of a berth is known to refuse saves that stand there already."""
    return [
        found
        for save in saves
        for rule in RULES
        if rule.standing
        for found in rule.look([save], opened.berth.address, opened)
        if isinstance(found, RefusedError)
    ]


class _TooLarge(Rule):
    """A save is larger than the game takes."""

    def look(
        self, saves: Sequence[Save], where: str, target: OpenBerth
    ) -> Iterator[str | RefusedError]:
        """Measure what the recipe limits."""
        for save in saves:
            for limit in target.berth.edition.limits:
                for what, size in _measured(save, limit):
                    if size > limit.most:
                        yield self.refusal(
                            f"{save.title} is too large for {target.berth.edition.title}: "
                            f"{what.format(f'{size:,}')}, and {limit.most:,} are the most.",
                            advice=limit.says,
                        )


def _measured(save: Save, limit: LimitInfo) -> list[tuple[str, int | float]]:
    if limit.fact is not None:
        fact = save.fact(limit.fact)
        if fact is None or not isinstance(fact.value, int | float):
            return []
        return [(f"its {fact.label} is {{}}", fact.value)]
    return [
        (f"its {piece.title} has {{}} bytes", _bytes_of(piece))
        for piece in save.pieces
        if piece.role == limit.piece
    ]


def _bytes_of(piece: Piece) -> int:
    """Return the size of a piece without any edition's wrapping; that may mean to unpack it."""
    size = piece.payload.size
    return size if size is not None else sum(map(len, piece.payload.chunks()))


class _Newer(Rule):
    """A save that is newer than the target's game would not load, or load as nothing."""

    waiver = "newer-ok"
    means = "The target's game was updated since its last save."
    in_game = "there"
    standing = False

    def look(
        self, saves: Sequence[Save], where: str, target: OpenBerth
    ) -> Iterator[str | RefusedError]:
        """Compare with what the target's game says itself, else with its newest save."""
        key = target.berth.edition.not_newer
        if key is None:
            return
        label = target.berth.game.fact_labels[key]
        newest = installed_version(target.berth)
        if newest is None:
            known = [fact for save in target.listing.saves if (fact := save.fact(key))]
            latest = max(known, key=lambda fact: _parts(fact.value), default=None)
            newest = latest.text if latest is not None else None
        for save in saves:
            own = save.fact(key)
            if own is None:
                continue
            if newest is None:
                yield (
                    f"{save.title} is of {label} {own.text}. Nothing is known of the target's: see "
                    "that its game is not older."
                )
            elif _parts(own.value) > _parts(newest):
                yield self.refusal(
                    f"{save.title} was saved by a newer game ({label} {own.text}) than the "
                    f"target's ({newest}), which would not load it.",
                    advice="Update the target's game, save once in it (a throwaway will do), and "
                    "try again. If it is updated already, add --newer-ok.",
                )
            elif _parts(own.value) < _parts(newest):
                yield (
                    f"{save.title} is of {label} {own.text}, the target's game of {newest}: "
                    "it will bring the save up to date, and then the older game may not load it."
                )


_PARTS = re.compile(r"\d{1,9}")


def _parts(value: object) -> tuple[int, ...]:
    return tuple(int(part) for part in _PARTS.findall(str(value)))


class _Packs(Rule):
    """A save uses add-ons that the target's game does not have."""

    waiver = "packs-ok"
    means = "The target's game has the add-ons, though they are not seen."
    silent = True

    def look(
        self, saves: Sequence[Save], where: str, target: OpenBerth
    ) -> Iterator[str | RefusedError]:
        """Compare with what is installed there, as far as the recipe lets that be told."""
        packs = target.berth.edition.packs
        there = installed_packs(target.berth) if packs is not None else None
        if packs is None or there is None:
            return
        for save in saves:
            missing = [name for name in save.packs if folded(name) not in there]
            if not missing:
                continue
            told = f"{save.title} uses what the target's game does not have: {', '.join(missing)}."
            says = f"The game will say: {packs.info.says}"
            if packs.info.passable:
                yield f"{told} {says} That can be passed."
                continue
            yield self.refusal(
                told,
                details=(says,),
                advice="Install it there first (the same version, if it has one), then try again. "
                "If it is installed already, add --packs-ok.",
            )


class _OtherHost(Rule):
    """Another than the target's player hosts a world, and the game loads only one's own.

    Who plays there is told by the target's own worlds, where one hosts them all.
    """

    waiver = "host-ok"
    means = "Carry a world that another player hosts than the target's own."

    def look(
        self, saves: Sequence[Save], where: str, target: OpenBerth
    ) -> Iterator[str | RefusedError]:
        """Compare the worlds' hosts."""
        info = target.berth.game.handover
        if info is None or not info.own_only:
            return
        own = [save for save in target.listing.saves if save not in saves]
        hosts = {host for save in own if (host := _host(target, save))}
        if len(hosts) != 1:
            return
        player = hosts.pop()
        for save in saves:
            host = _host(target, save)
            if host and host.casefold() != player.casefold():
                yield self._refused(save, where, target, host, player)

    def _refused(
        self, save: Save, where: str, target: OpenBerth, host: str, player: str
    ) -> RefusedError:
        file = f"{save.title.casefold().replace(' ', '-')}.zip"
        guest = player.casefold() in map(str.casefold, guests_of(target.berth.game, save))
        join = f"Have {player} join that world once and save; then hand it over with `cferry "
        return self.refusal(
            f"{host} hosts {save.title}, and the game in {target.berth.address} loads only worlds "
            f"that {player} hosts.",
            details=(
                "Hand it over first:",
                f"  cferry handover {address_of(where, save)} --to {player} -o {file}",
                f"  cferry handover {target.berth.address} --take {file}",
            )
            if guest
            else (),
            advice=("" if guest else f"{join}handover`. ")
            + f"If {host} plays there, add --host-ok.",
        )


def _host(berth: OpenBerth, save: Save) -> str:
    try:
        return host_of(berth.berth.game, save)
    except FerryError:
        return ""


RULES: tuple[Rule, ...] = (_TooLarge(), _Newer(), _Packs(), _OtherHost())
