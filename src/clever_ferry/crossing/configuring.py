"""Telling the target's game, a server mostly, which save to load, in its own config."""

from __future__ import annotations

from collections.abc import Sequence

from msgspec import Struct

from clever_ferry.crossing.plan import Move, Told
from clever_ferry.errors import DamagedError, FerryError, RefusedError
from clever_ferry.finding.berths import OpenBerth
from clever_ferry.naming import FieldSpec, JoinedField, Value
from clever_ferry.payload import BytesPayload, read_all
from clever_ferry.recipes.configs import Config

__all__ = ["Telling", "left_alone", "stands", "telling"]

_MOST = 1 << 20
_AGAIN = "--no-tell carries without, and leaves the file to you."


class Telling(Struct, frozen=True):
    """What will be told, and what is to be said of files that stay as they are."""

    told: tuple[Told, ...] = ()
    notes: tuple[str, ...] = ()


def telling(target: OpenBerth, moves: Sequence[Move]) -> Telling:
    """Say how the target's config will name the save that is carried.

    Raises RefusedError where a file can't say so.
    """
    found = [_told(one, target, moves) for one in target.berth.edition.configs]
    return Telling(
        tuple(one for one in found if isinstance(one, Told)),
        tuple(one for one in found if isinstance(one, str)),
    )


def left_alone(target: OpenBerth) -> Telling:
    """Say what the user leaves as it is."""
    edition = target.berth.edition
    names = " and ".join(one.info.file for one in edition.configs)
    left = f"As you say, {names} stays as it is: its game loads the save that it names."
    none = f"{edition.title} has no config that a crossing tells: --no-tell changes nothing."
    return Telling(notes=(left if names else none,))


def _told(config: Config, target: OpenBerth, moves: Sequence[Move]) -> Told | str:
    berth, name = target.berth, config.info.file
    if len(moves) != 1:
        return f"{name} names one save to load, and {len(moves)} are carried: it stays as it is."
    info = berth.files.info(name)
    if info is None:
        return f"{name} is not there, so the game is not told which save to load."
    fields = {**berth.fields, **moves[0].fields}
    written = {key: _spelled(berth.edition.fields[key], value) for key, value in fields.items()}
    values = {key: text for key, text in written.items() if text}
    if lacking := config.lacks(values):
        return (f"{name} is to name the save's {', '.join(lacking)}, which it has not: it stays "
                "as it is.")  # fmt: skip
    try:
        before = read_all(berth.files.payload(info.path), limit=_MOST, what=name)
        after = config.named(BytesPayload(before), values)
        if after is None:
            return f"{name} names that save already."
        raw = read_all(after, limit=2 * _MOST, what=name)
        if not config.names(BytesPayload(raw), values):
            raise DamagedError(f"What is written there does not read back from {name}.")
    except FerryError as error:
        raise RefusedError(
            f"{name} can't be told which save to load: {error.what}",
            advice=_AGAIN,
            again=("--no-tell",),
        ) from None
    return Told(info.path, before, raw)


def _spelled(field: FieldSpec, value: Value) -> str | None:
    """Return a field as the save's own name spells it; several parts as they are shown."""
    if isinstance(field, JoinedField) and isinstance(value, int):
        return field.shown(value)
    return field.write(value)


def stands(target: OpenBerth, told: Told, *, after: bool) -> bool:
    """Tell whether a file stands as it did before, or as it was to be `after`."""
    try:
        raw = read_all(target.berth.files.payload(told.path), limit=2 * _MOST, what=told.path)
    except (FerryError, OSError):
        return False
    return raw == (told.after if after else told.before)
