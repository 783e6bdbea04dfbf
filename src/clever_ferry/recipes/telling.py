"""What a recipe says, in plain words: where saves are, how they are kept, what a crossing does."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from clever_ferry.recipes.edition import Edition, Game
from clever_ferry.recipes.parts import PieceFile

__all__ = ["EditionTold", "RouteTold", "only_read", "told_edition", "told_route", "told_routes"]

_FOLDERS = {
    "shared-games": "the system's folder of games' scores and saves",
    "shared-state": "the system's folder of what servers keep",
    "home": "your home folder",
    "documents": "your documents",
    "downloads": "your downloads",
    "saved-games": "your saved games",
    "roaming-data": "the roaming application data",
    "local-data": "the local application data",
    "low-data": "the low local application data",
    "xdg-data": "your data folder (~/.local/share)",
    "xdg-config": "your settings folder (~/.config)",
    "sandboxes": "the folders of sandboxed apps",
    "snaps": "the folders of snaps",
    "app-support": "Library/Application Support",
    "export": "the zips of its export",
    "given": "a folder that you name after @",
}
_SYSTEMS = {"windows": "Windows", "linux": "Linux", "macos": "macOS", "any": "any system"}


@dataclass(frozen=True)
class EditionTold:
    """One edition: lines of words by subject."""

    edition: Edition
    places: tuple[str, ...]
    kept: tuple[str, ...]
    pieces: tuple[tuple[str, str, str], ...]
    """Per role: what it is, its name there, how it is wrapped."""
    rules: tuple[str, ...]


@dataclass(frozen=True)
class RouteTold:
    """A crossing between two editions: what it does and needs."""

    source: Edition
    target: Edition
    does: tuple[str, ...]
    needs: tuple[str, ...]
    after: tuple[str, ...]
    """What to do in the game then."""


def told_edition(game: Game, edition: Edition) -> EditionTold:
    """Tell where an edition's saves are and how they are kept."""
    places = []
    for info, pattern, _ in edition.berths:
        below = f": {pattern.text}" if pattern is not None else ""
        places.append(f"on {_SYSTEMS[info.on]}, in {_FOLDERS[info.under]}{below}")
    for name in sorted(edition.berth_fields):
        places.append(f"{{{name}}} is {edition.fields[name].wants()}")
    kept = [
        f"in one box, {edition.box_title}; the names below are those inside it"
        if edition.box_title is not None
        else "as plain files"
    ]
    pieces = tuple(_piece(game, file) for file in edition.files)
    return EditionTold(edition, tuple(places), tuple(kept), pieces, tuple(_rules(game, edition)))


def _piece(game: Game, file: PieceFile) -> tuple[str, str, str]:
    info = game.pieces[file.role]
    what = info.label or file.role
    what += " (shared by all saves)" if info.shared else "" if info.needed else " (if there is one)"
    if file.sidecar is not None:
        return what, file.patterns[0].text, f"describes the {file.sidecar.of}"
    wrapped = "wrapped: " + " + ".join(file.wrapping) if file.wrapping else "as it is"
    return what, file.patterns[0].text, wrapped


def _rules(game: Game, edition: Edition) -> Iterator[str]:
    if edition.most_slots is not None:
        yield f"its menu shows {edition.most_slots} saves at the most"
    if edition.not_newer is not None:
        yield "saves of a newer game than its own are refused"
    if edition.installed is not None:
        sign = edition.installed
        yield f"its own version is told by {sign.file}, where that says {sign.says}"
    if edition.runs_as:
        yield f"nothing is written while it runs ({', '.join(edition.runs_as)})"
    if edition.running is not None:
        seen = edition.running.info
        signs = [f"{seen.file} is there"] if seen.file else []
        signs += [f"something answers at port {seen.port}"] if seen.port else []
        if signs:
            yield f"nothing is written while {' or '.join(signs)}, as while it runs"
    for limit in edition.limits:
        what = f"{limit.piece} of {limit.most:,} bytes" if limit.piece else (
            f"{limit.fact} of {limit.most:,}"
        )  # fmt: skip
        yield f"it takes a {what} at the most"
    if edition.packs is not None:
        answer = "loads such a save all the same" if edition.packs.info.passable else (
            "refuses a save whose add-ons it lacks"
        )  # fmt: skip
        yield f"its add-ons are in {edition.packs.pattern.text}; the game {answer}"
    if game.handover is not None:
        yield "a world of it can be handed over to another host: cferry handover"
    if edition.loader is not None:
        program = " or ".join(edition.loader.program)
        yield f"whether a save loads, {program} itself can be asked: cferry check --with-game"
    for config in edition.configs:
        told = ", ".join(f"{place} = {text}" for place, text in config.info.set.items())
        yield f"a crossing tells it in {config.info.file} which save to load: {told}"
    for cloud in edition.clouds:
        yield f"{cloud.info.title} may put an old save back; a crossing says what to do then"
    for pattern in edition.never:
        yield f"{pattern.text} is never touched"
    if edition.newest is not None:
        yield f"of several files that differ in {{{edition.newest}}} alone, the highest counts"
    for pattern in edition.rebuilt:
        yield f"{pattern.text} is removed by a crossing, and made anew by the game"
    old = {file.role: ", ".join(file.old) for file in edition.files if file.old}
    if old:
        told = ", ".join(f"{role} ({endings})" for role, endings in old.items())
        yield f"where a file is missing, its old copy serves: {told}"


def told_route(game: Game, source: Edition, target: Edition) -> RouteTold:
    """Tell what a crossing from one edition to another will do and needs."""
    does, needs = [], []
    for file in target.files:
        if file.sidecar is not None:
            does.append(f"the {file.role}: {file.patterns[0].text} is made anew; it describes the "
                        f"{file.sidecar.of}")  # fmt: skip
            continue
        other = source.file_of(file.role)
        info = game.pieces[file.role]
        if other is None or info.shared:
            continue
        name, was = file.patterns[0].text, other.patterns[0].text
        does.append(f"the {file.role}: {was if was == name else f'{was} → {name}'}"
                    f"{_rewrapped(other, file)}")  # fmt: skip
    for name in target.key_fields:
        ways = target.fields[name].on_arrival
        if name == "slot" or ways == ("kept",):
            continue
        words = {
            "kept": "kept", "adopted": "taken from the save that is replaced",
            "usual": "what all the target's saves have",
            "made": "made new", "given": f"given by you (--give {name}=…)",
        }  # fmt: skip
        does.append(f"{name}: {', or '.join(words[way] for way in ways)}")
        if "made" not in ways and "kept" not in ways:
            what = "any save of the target's own" if "usual" in ways else (
                "a save that the target made itself"
            )  # fmt: skip
            needs.append(f"{what}, or --give {name}=…")
    bound = sorted({name for file in target.files for name in target.repeated_in(file.role)})
    if bound:
        does.append(f"stamped with the target's {', '.join(bound)}")
    for file in source.files:
        if target.file_of(file.role) is None and file.sidecar is None:
            does.append(f"left behind: the {file.role}, as the target has none")
    shared = [role for role, info in game.pieces.items() if info.shared and target.file_of(role)]
    if shared:
        does.append(f"the target's {', '.join(shared)} stay as they are, unless it has none or you "
                    "say --with")  # fmt: skip
    if target.most_slots is not None and (source.most_slots or 10**9) > target.most_slots:
        needs.append(f"a slot up to {target.most_slots}: the target shows no more")
    if source.id in target.arriving:
        does += target.arriving[source.id].notes
    if target.secrets | source.secrets:
        names = ", ".join(sorted(target.secrets | source.secrets))
        needs.append(f"what only you know: --give {names}=…")
    arriving = target.arriving.get(source.id)
    after = (*(arriving.after if arriving else ()), *target.after)
    return RouteTold(source, target, tuple(does), tuple(needs), after)


def _rewrapped(source: PieceFile, target: PieceFile) -> str:
    if source.wrapping == target.wrapping:
        return ""
    before, after = " + ".join(source.wrapping), " + ".join(target.wrapping)
    return f" ({f'{before} comes off' if before else ''}{', ' if before and after else ''}" + (
        f"{after} goes on" if after else ""
    ) + ")"  # fmt: skip


def told_routes(game: Game, edition: Edition) -> list[RouteTold]:
    """Tell the crossings from an edition to each other one, and back; exports are only read."""
    others = [one for one in game.editions.values() if one.id != edition.id]
    there = [told_route(game, edition, one) for one in others if not only_read(one)]
    back = [] if only_read(edition) else [told_route(game, one, edition) for one in others]
    return there + back


def only_read(edition: Edition) -> bool:
    """Tell whether an edition's saves are an export, into which nothing is carried."""
    return all(berth.info.under == "export" for berth in edition.berths)
