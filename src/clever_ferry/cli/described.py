"""The core's values as plain data, for `--json`."""

from __future__ import annotations

from typing import Any

from clever_ferry.cargo import Save
from clever_ferry.crossing import Move, Plan
from clever_ferry.finding import Berth
from clever_ferry.keeping import Kept, Record
from clever_ferry.proving import Proof

__all__ = [
    "berth_data",
    "kept_data",
    "move_data",
    "plan_data",
    "proof_data",
    "record_data",
    "save_data",
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


def save_data(save: Save) -> dict[str, Any]:
    """Return a save: slot, facts, pieces, problems; sizes in bytes, stamps in ns since 1970."""
    return {
        "slot": save.slot,
        "name": save.title,
        "fields": dict(save.fields),
        "facts": {fact.key: fact.value for fact in save.facts},
        "saved": save.stamp,
        "size": save.size,
        "pieces": [
            {"role": p.role, "fields": dict(p.fields), "entry": p.entry, "size": p.size}
            for p in save.pieces
        ],
        "throwaway": save.throwaway,
        "problems": list(save.problems),
        "notes": list(save.notes),
    }


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
        "removed": list(move.removes),
        "left_behind": [piece.title for piece in move.left_behind],
    }


def plan_data(plan: Plan) -> dict[str, Any]:
    """Return a plan."""
    return {
        "from": berth_data(plan.source.berth),
        "to": berth_data(plan.target.berth),
        "moves": [move_data(move) for move in plan.moves],
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
        "save": proof.save.title,
        "slot": proof.save.slot,
        "pieces": proof.pieces,
        "facts": [
            {"label": f.label, "before": f.before, "after": f.after, "same": f.same}
            for f in proof.facts
        ],
    }


def kept_data(kept: Kept) -> dict[str, Any]:
    """Return a backup in short; sizes in bytes, `made` in ns since 1970."""
    return {
        "id": kept.id,
        "kind": kept.kind,
        "made": kept.made,
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


def record_data(record: Record) -> dict[str, Any]:
    """Return a crossing from the logbook."""
    return {
        "number": record.number,
        "state": record.state,
        "started": record.started,
        "ended": record.ended,
        "backup": record.manifest,
        **{key: record.story[key] for key in ("game", "from", "to", "moves")},
        "reason": record.story.get("reason"),
    }
