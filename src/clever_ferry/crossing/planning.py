"""Planning: which save goes where, what it replaces, what changes. Nothing is written."""

from __future__ import annotations

from collections.abc import Callable, Collection, Mapping, Sequence

from msgspec.structs import replace

from clever_ferry.boxes import Choosy
from clever_ferry.cargo import Piece, Save, new_digest
from clever_ferry.crossing.configuring import Telling, left_alone, telling
from clever_ferry.crossing.destinations import Destination, destinations_of, names_one
from clever_ferry.crossing.plan import Arrival, Move, Plan
from clever_ferry.crossing.refusing import (
    refuse_beyond_limit,
    refuse_collisions,
    refuse_damaged,
    refuse_foreign_given,
    refuse_other_story,
    refuse_same,
    refuse_several,
)
from clever_ferry.crossing.rules import notes_on
from clever_ferry.errors import (
    DamagedError,
    NotFoundError,
    RefusedError,
    WrongUseError,
)
from clever_ferry.finding.addresses import address_of, select
from clever_ferry.finding.berths import OpenBerth
from clever_ferry.moving.names import refuse_forbidden
from clever_ferry.naming import Value
from clever_ferry.recipes.encoding import Encoded, Encoding, encode, encode_shared

__all__ = ["make_plan"]


def make_plan(
    source: OpenBerth,
    target: OpenBerth,
    *,
    chosen: str | None,
    slots: str | None,
    given: Mapping[str, str],
    as_it_was: bool = False,
    sharing: Collection[str] | None = None,
    whole_only: bool = False,
    waived: Collection[str] = (),
    itself: bool = False,
    tell: bool | None = None,
) -> Plan:
    """Plan a crossing of the chosen slots (all, if None) to `slots` of the target.

    `given` are name fields that the user states. New identifiers follow from how both sides stand,
    so that a plan that is only shown has those that the next run has, too. `as_it_was` keeps every
    name field of the source, where a backup comes back to where it was. `sharing` are roles of
    shared pieces to carry even where the target has its own; None: carry none. `whole_only` leaves
    damaged saves behind instead of refusing; `waived` are words that turn refusals (`RULES`).
    `itself`: the saves were changed, and go onto what they were. `tell`: the target's own config
    is to name what is carried; False where the user leaves it, None where nobody asked for it.
    Raises FerryError subclasses for all that would stand in the way.
    """
    if not target.berth.writable:
        raise RefusedError(
            f"{target.berth.address} is in an archive, and archives are only read.",
            advice="Carry the saves to an edition that is installed, or unpack the archive and "
            "name the folder.",
        )
    where = f"{source.berth.address}"
    by_number = source.berth.edition.slots_by_number
    saves = select(source.listing.saves, chosen, where, by_number)
    left = [save for save in saves if whole_only and save.problems]
    if len(left) < len(saves):
        saves = [save for save in saves if save not in left]
    if chosen is None and names_one(slots, target):
        refuse_several(saves, source, f"{target.berth.address}:{slots}")
    refuse_damaged(saves, source)
    notes = tuple(
        f"It can't be read, so nothing of it is carried: {told}"
        for told in source.contents.problems
    )
    if not as_it_was:
        notes += notes_on(saves, where, target, waived) + _arriving_notes(source, target)
    secrets = source.berth.edition.secrets | target.berth.edition.secrets
    headed = target.berth.edition.asked
    named = {name: value for name, value in given.items() if name not in secrets | headed}
    if as_it_was and named:
        raise WrongUseError(f"{next(iter(named))} stays as it was; only a key can be given here.")
    refuse_foreign_given(named, target)
    destinations = destinations_of(
        saves, target, slots if not as_it_was else slots or _own_slots(saves, target)
    )
    already = tuple(
        (save, one.replaced)
        for save, one in zip(saves, destinations, strict=True)
        if one.already and one.replaced is not None
    )
    pairs = [(save, one) for save, one in zip(saves, destinations, strict=True) if not one.already]
    if already and not pairs and not sharing:
        raise NotFoundError(
            f"{target.berth.address} has the same progress already: nothing needs to be carried.",
            details=tuple(f"  {save.title}: {address_of(target.berth.address, own)}"
                          for save, own in already),
            advice=f"To carry it all the same, name the slot: "
            f"{address_of(target.berth.address, already[0][1])}",
        )  # fmt: skip
    random = _ids(source, target)
    made_up = source.berth.made_up
    pairs = [(_only_known(save, made_up), one) for save, one in pairs] if made_up else pairs
    moves = [_move(save, one, target, given, random, as_it_was) for save, one in pairs]
    if not itself:
        refuse_same(source, target, moves)
    refuse_collisions(target, moves)
    refuse_beyond_limit(target, moves)
    shared, left_out = _shared(source, target, sharing) if sharing is not None else ((), ())
    rebuilt = tuple(
        entry.name
        for entry in target.contents.entries
        if target.berth.edition.rebuilds(entry.name) and not target.berth.edition.barred(entry.name)
    )
    says = Telling() if tell is None else telling(target, moves) if tell else left_alone(target)
    return Plan(
        source, target, tuple(moves), dict(given), shared=shared, rebuilt=rebuilt,
        left=tuple(left), already=already, told=says.told, notes=notes + left_out + says.notes,
    )  # fmt: skip


def _arriving_notes(source: OpenBerth, target: OpenBerth) -> tuple[str, ...]:
    arriving = target.berth.edition.arriving.get(source.berth.edition.id)
    return arriving.notes if arriving else ()


def _shared(
    source: OpenBerth, target: OpenBerth, sharing: Collection[str]
) -> tuple[tuple[Encoded, ...], tuple[str, ...]]:
    """Encode the shared pieces that are asked for, or that the target lacks.

    Also returns what is to be said of those that it lacks and that can't go.
    """
    roles = sorted(role for role, info in source.berth.game.pieces.items() if info.shared)
    for role in sharing:
        if role not in roles:
            told = ", ".join(roles) or "none"
            raise WrongUseError(f"{role!r} is no piece that saves share; there are: {told}.")
        if role not in {piece.role for piece in source.listing.shared}:
            raise NotFoundError(f"{source.berth.address} has no {role}.")
    encoded: list[Encoded] = []
    notes: list[str] = []
    for piece in source.listing.shared:
        own = _like(piece, source, target)
        if piece.role not in sharing and (own is not None or piece.problem):
            continue
        if own is not None:  # it goes under the name that the target's own one has
            piece = replace(piece, fields=own.fields)
        if piece.problem:
            raise DamagedError(f"The {piece.title} is damaged: {piece.problem}.")
        try:
            one = encode_shared(target.berth.edition, piece, target.known, 0)
        except RefusedError as error:
            if piece.role in sharing:
                raise
            notes.append(f"The {piece.title}, which the target lacks, stays behind: {error.what}")
            continue
        if one is not None:
            encoded.append(one)
    return tuple(encoded), tuple(notes)


def _like(piece: Piece, source: OpenBerth, target: OpenBerth) -> Piece | None:
    """Return the target's own piece of a shared role; of several, the one for the same player."""
    each = source.berth.game.pieces[piece.role].each
    for own in target.listing.shared:
        if own.role == piece.role and (each is None or own.fields.get(each) == piece.fields[each]):
            return own
    return None


def _only_known(save: Save, made_up: Collection[str]) -> Save:
    """Return a save without the parts of its name that nothing says, so that none is kept."""
    fields = {name: value for name, value in save.fields.items() if name not in made_up}
    return replace(save, fields=fields)


def _own_slots(saves: Sequence[Save], target: OpenBerth) -> str | None:
    """Return the saves' own slots, to which a backup of them goes back."""
    if not target.berth.edition.numbered or not saves:
        return None
    return ",".join(str(save.slot) for save in saves)


def _ids(source: OpenBerth, target: OpenBerth) -> Callable[[int], bytes]:
    """Return a source of new identifiers: the same ones while neither side changes."""
    seed = new_digest()
    for one in (source, target):
        seed.update(f"{one.berth.root}\0".encode("utf-8", "surrogateescape"))
        for entry in one.contents.entries:
            state = f"{entry.name}\0{entry.size}\0{entry.stamp}\0"
            seed.update(state.encode("utf-8", "surrogateescape"))
    taken = 0

    def make(count: int) -> bytes:
        nonlocal taken
        taken += count
        return seed.digest(length=count, seek=taken - count)

    return make


def _move(
    save: Save, destination: Destination, target: OpenBerth, given: Mapping[str, str],
    random: Callable[[int], bytes], as_it_was: bool,
) -> Move:  # fmt: skip
    edition = target.berth.edition
    fields: dict[str, Value] = {}
    changes: list[Arrival] = []
    for name in edition.key_fields:
        if name == "slot" and destination.slot is not None:
            fields[name] = destination.slot
            continue
        if as_it_was and name in save.fields:
            change = Arrival(name, save.fields[name], "kept")
        elif destination.name is not None:
            change = Arrival(name, edition.fields[name].parse(destination.name), "given")
        elif not edition.numbered and destination.replaced is not None:
            if name not in destination.replaced.fields:
                continue
            change = Arrival(name, destination.replaced.fields[name], "adopted")
        elif name in edition.optional_fields and name not in (save.fields.keys() | given.keys()):
            continue
        else:
            change = _arrival(name, save, destination.replaced, target, given, random)
        fields[name] = change.value
        if change.how != "kept":
            changes.append(change)
    replaced = destination.replaced or _same_name(target, fields)
    unnamed = destination.replaced is None and destination.name is None
    if unnamed and replaced is not None and not as_it_was:
        refuse_other_story(save, replaced, target, fresh=destination.fresh)
    generations = [
        one.generation or 0
        for one in (*target.listing.saves, *target.listing.behind)
        if one.fields == (replaced.fields if replaced else fields)
    ]
    adopted = _adopted(save, replaced, target)
    whole = replace(save, pieces=(*save.pieces, *adopted))
    encoding = Encoding(
        edition,
        whole,
        fields,
        target.berth.known(given),
        replaced,
        max(generations, default=0) + 1,
        random(16),
    )
    encoded = tuple(encode(encoding, 0))  # nothing is written: its names and sizes count
    if isinstance(edition.box, Choosy):
        for item in encoded:
            edition.box.refuse(target.contents, item.put.name)
    kept = {item.piece.key for item in encoded}
    left = tuple(p for p in save.pieces if p.key not in kept and not p.describes)
    if edition.box_title is None:
        for item in encoded:
            refuse_forbidden(item.put.name, target.berth.system, target.berth.above)
    new = {target.berth.folded(item.put.name) for item in encoded}
    removes = tuple(
        piece.entry
        for piece in (replaced.pieces if replaced else ())
        if target.berth.folded(piece.entry) not in new
    )
    slot = destination.slot or (replaced.slot if replaced else 0)
    return Move(
        save, slot, fields, replaced, encoding, encoded, removes, tuple(changes), adopted, left
    )  # fmt: skip


def _adopted(save: Save, replaced: Save | None, target: OpenBerth) -> tuple[Piece, ...]:
    """Return what the target needs and a save lacks, such as a picture, of the save it replaces.

    Raises RefusedError where that has none either, or where it is what a player goes by.
    """
    edition = target.berth.edition
    sidecars = {file.role for file in edition.files if file.sidecar}
    lacks = set(edition.missing(save.roles)) - sidecars
    own = replaced.pieces if replaced else ()
    known_by = edition.reader.sources
    adopted = tuple(one for one in own if one.role in lacks and one.role not in known_by)
    missing = lacks - {piece.role for piece in adopted}
    if missing:
        told = ", ".join(sorted(missing))
        raise RefusedError(
            f"{save.title} has no {told}, and {edition.title} does not load a save without.",
            advice=f"Make a throwaway save in {edition.title} and carry onto it (:throwaway): its "
            f"{told} is kept."
            if not missing & known_by
            else "Look for an older copy of the save that has it.",
            in_game="" if missing & known_by else "throwaway",
        )
    return adopted


def _same_name(target: OpenBerth, fields: Mapping[str, Value]) -> Save | None:
    key = {name: target.berth.folded(str(value)) for name, value in fields.items()}
    for save in target.listing.saves:
        if {name: target.berth.folded(str(value)) for name, value in save.fields.items()} == key:
            return save
    return None


def _arrival(
    name: str, save: Save, replaced: Save | None, target: OpenBerth, given: Mapping[str, str],
    random: Callable[[int], bytes],
) -> Arrival:  # fmt: skip
    """Return a name field's value in the target, by the first way that can be gone."""
    field = target.berth.edition.fields[name]
    if name in given:
        return Arrival(name, field.parse(given[name]), "given")
    for way in field.on_arrival:
        if way == "kept" and name in save.fields:
            return Arrival(name, save.fields[name], "kept")
        if way == "adopted" and replaced is not None and name in replaced.fields:
            return Arrival(name, replaced.fields[name], "adopted")
        usual = {one.fields[name] for one in target.listing.saves if name in one.fields}
        if way == "usual" and len(usual) == 1:
            return Arrival(name, usual.pop(), "usual")
        if way == "made" and (value := field.made(random)) is not None:
            return Arrival(name, value, "made")
    ways = " or ".join(field.on_arrival)
    raise RefusedError(
        f"{save.title} needs the target's {name}, and there is none ({ways}).",
        details=("This edition takes only a save that it made itself.",)
        if {"adopted", "usual"} & set(field.on_arrival)
        else (),
        advice="Make a throwaway save in the target's game and carry onto it (:throwaway), or "
        f"state it with --give {name}=VALUE ({field.wants()}).",
        in_game="throwaway",
    )
