"""The core's values as plain data, for `--json`: sizes in bytes, times in ISO 8601 (UTC)."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any

from msgspec import to_builtins

from clever_ferry.cli.screen import iso

if TYPE_CHECKING:
    from clever_ferry.cargo import Save
    from clever_ferry.crossing.plan import Move, Plan
    from clever_ferry.finding import Berth
    from clever_ferry.finding.changes import Changes
    from clever_ferry.keeping.logbook import Record
    from clever_ferry.keeping.snapshots import Kept, Snapshot
    from clever_ferry.looking import Seen, Sight, Surveyed
    from clever_ferry.proving.comparing import Proof
    from clever_ferry.recipes.encoding import Arrived

__all__ = [
    "PROVED",
    "berth_data",
    "changes_data",
    "found_of",
    "kept_data",
    "move_data",
    "plan_data",
    "proof_data",
    "record_data",
    "save_data",
    "seen_data",
    "snapshot_data",
    "survey_data",
    "told_found",
    "told_outcome",
    "told_state",
]


def berth_data(berth: Berth) -> dict[str, Any]:
    """Return a berth: its address, folder, and what tells it apart."""
    return {
        "address": berth.address,
        "game": berth.game.title,
        "edition": berth.edition.title,
        "harbour": berth.harbour,
        "folder": str(berth.root),
        "fields": dict(berth.fields),
    }


def sight_data(sight: Sight) -> dict[str, Any]:
    """Return a berth with what it holds in short."""
    return {
        **berth_data(sight.berth),
        "saves": len(sight.saves),
        "saved": iso(max((s.stamp or 0 for s in sight.saves), default=None)),
        "size": sum(save.size for save in sight.saves),
        "evidence": list(sight.evidence),
        "problems": list(sight.problems),
    }


def seen_data(seen: Seen, computer: str) -> dict[str, Any]:
    """Return what a look around found."""
    return {
        "computer": computer,
        "berths": [sight_data(sight) for sight in seen.sights],
        "missing": [{"what": error.what, "advice": error.advice} for error in seen.missing],
        "troubles": list(seen.troubles),
        "recipe_faults": [error.what for error in seen.faults],
    }


def changes_data(changes: Changes, whose: Mapping[Path, str], since: int) -> dict[str, Any]:
    """Return which files changed."""
    return {
        "since": iso(since),
        "folders": [
            {
                "folder": str(one.folder),
                "game": whose.get(one.folder),
                "guess": one.guess or None,
                "files": [
                    {"path": new.path, "saved": iso(new.stamp), "size": new.size}
                    for new in one.files
                ],
            }
            for one in changes.folders
        ],
        "looked": [str(path) for path in changes.looked],
        "not_looked": [str(path) for path in changes.passed],
        "troubles": list(changes.troubles),
    }


def survey_data(surveyed: Surveyed) -> dict[str, Any]:
    """Return what a folder seems to hold."""
    survey = surveyed.survey
    return {
        "kind": surveyed.place.kind,
        "files": survey.count,
        "size": survey.size,
        "deepest": survey.deepest,
        "newest": survey.newest.path if survey.newest else None,
        "kinds": [kind._asdict() for kind in survey.kinds],
        "sets": [one._asdict() for one in survey.sets],
        "series": [{**one._asdict(), "gaps": one.gaps} for one in survey.series],
        "troubles": survey.troubles,
        "glimpse": list(surveyed.glimpse),
        "reads_as": [sight_data(sight) for sight in surveyed.sights],
        "part_of": [
            {
                **berth_data(part.sight.berth),
                "saves": [{"slot": save.slot, "name": save.title} for save in part.saves],
                "roles": list(part.roles),
                "problems": list(part.sight.problems),
            }
            for part in surveyed.part_of
        ],
    }


def save_data(save: Save) -> dict[str, Any]:
    """Return a save: slot, facts, pieces, problems."""
    return {
        "slot": save.slot,
        "name": save.title,
        "fields": dict(save.fields),
        "facts": {fact.key: fact.value for fact in save.facts},
        "saved": iso(save.stamp),
        "size": save.size,
        "pieces": [
            {"role": p.role, "fields": dict(p.fields), "entry": p.entry, "size": p.size}
            for p in save.pieces
        ],
        "packs": list(save.packs),
        "throwaway": save.throwaway,
        "old_copies": list(save.old),
        "problems": list(save.problems),
        "notes": list(save.notes),
    }


def arrived_value(one: Arrived) -> Any:
    """Return a header field's value for people and for JSON: bytes as hex, a time in ISO 8601.

    A time that is made is not known before it is written.
    """
    if one.is_time:
        return "the time of writing" if one.how == "made" else iso(one.value)
    return one.value.hex() if isinstance(one.value, bytes) else one.value


def move_data(move: Move) -> dict[str, Any]:
    """Return one save's way."""
    return {
        "save": save_data(move.save),
        "to_slot": move.slot or None,
        "fields": dict(move.fields),
        "replaces": save_data(move.replaced) if move.replaced else None,
        "renamed": [{"from": before, "to": after} for before, after in move.renamed],
        "changed_fields": [
            {"field": c.field, "value": c.value, "how": c.how} for c in move.changes
        ],
        "header_fields": [
            {
                "piece": item.piece.title,
                "header": one.layout,
                "field": one.field,
                "value": arrived_value(one),
                "how": one.how,
            }
            for item in move.encoded
            for one in item.arrived
        ],
        "removed": list(move.removes),
        "adopted_pieces": [piece.title for piece in move.adopted],
        "left_behind": [piece.title for piece in move.left_behind],
    }


def plan_data(plan: Plan) -> dict[str, Any]:
    """Return a plan."""
    return {
        "from": berth_data(plan.source.berth),
        "to": berth_data(plan.target.berth),
        "moves": [{**move_data(move), "not_carried": plan.strays(move)} for move in plan.moves],
        "shared": [{"piece": item.piece.title, "to": item.put.name} for item in plan.shared],
        "rebuilt": list(plan.rebuilt),
        "told": [
            {"file": one.path, "lines": [f"{sign} {line}" for sign, line in one.lines]}
            for one in plan.told
        ],
        "notes": list(plan.notes),
        "already": [{"name": save.title, "slot": own.slot} for save, own in plan.already],
        "left": [save_data(save) for save in plan.left],
        "bytes": plan.size,
        "signs": {
            "running": list(plan.signs.running),
            "open_files": list(plan.signs.opened),
            "clouds": [
                {"title": cloud.title, "seen": cloud.seen, "answer": list(cloud.answer)}
                for cloud in plan.signs.clouds
            ],
        },
    }


def proof_data(proof: Proof) -> dict[str, Any]:
    """Return what reading a save back has shown."""
    return {
        "name": proof.save.title,
        "slot": proof.save.slot,
        "pieces": proof.pieces,
        "facts": [
            {
                "label": f.label,
                "before": f.before,
                "after": f.after,
                "same": f.same,
                "allowed": f.allowed,
            }
            for f in proof.facts
        ],
    }


def kept_data(kept: Kept) -> dict[str, Any]:
    """Return a backup in short."""
    return {
        "id": kept.id,
        "kind": kept.kind,
        "made": iso(kept.made),
        "note": kept.note,
        "of": kept.about.title,
        "address": kept.about.address,
        "folder": kept.root,
        "whole": kept.about.whole,
        "files": kept.count,
        "size": kept.size,
        "saves": [
            {"slot": save.slot, "name": save.title, "facts": dict(save.facts)}
            for save in kept.saves
        ],
    }


def snapshot_data(snapshot: Snapshot) -> dict[str, Any]:
    """Return a backup with every file."""
    return {
        **kept_data(snapshot.short),
        "files": [
            {"path": one.path, "size": one.size, "saved": iso(one.stamp), "digest": one.digest}
            for one in snapshot.files
        ],
        "absent": list(snapshot.absent),
    }


PROVED = {
    "read": "read back", "digest": "the same by the server's digests", "size": "sent, not read back"
}  # fmt: skip
"""What the logbook calls `proved`, by what it was compared with what was sent."""


def told_state(record: Record) -> str:
    """Return a crossing's state in words."""
    return PROVED[record.details.compared] if record.state == "proved" else record.state


def told_outcome(record: Record) -> str:
    """Return a crossing's state, and what its game has made of it, as far as that is known."""
    found, _ = found_of(record)
    return f"{told_state(record)}; {found}" if found else told_state(record)


def found_of(record: Record) -> tuple[str, str]:
    """Return what a game has made of a crossing that stands, and the style to show it in."""
    seen = record.details.seen
    return told_found(seen.loads, seen.launch) if record.state == "proved" else ("", "")


def told_found(loads: bool | None, launch: str) -> tuple[str, str]:
    """Return what a game said or made of a crossing, the further of both, and its style."""
    if launch == "goes on":
        return "goes on", "good"
    if launch not in ("", "not loaded"):
        return f"first launch: {launch}", "care"
    if loads is not None:
        told = ("the game has loaded it", "good"), ("the game has not loaded it", "care")
        return told[not loads]
    return ("not played on yet", "dim") if launch else ("", "")


def record_data(record: Record) -> dict[str, Any]:
    """Return a crossing from the logbook."""
    details = to_builtins(record.details)
    return {
        "number": record.number,
        "state": told_state(record),
        "started": iso(record.started),
        "ended": iso(record.ended),
        "backup": record.backup,
        **{key: details[key] for key in ("game", "from", "to", "moves")},
        "reason": details["reason"],
        "level": record.level,
        "loads": record.details.seen.loads,
        "launch": record.details.seen.launch or None,
        "seen": iso(record.details.seen.stamp or None),
    }
