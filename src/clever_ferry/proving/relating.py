"""Which saves of two berths are the same progress, and which side is ahead.

Told by what a player goes by: whether they are of one story (`stories.py`), then the facts, then
(where all facts agree) the contents; the time of the last change only where nothing else tells.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Literal

from clever_ferry.cargo import Comparison, Save
from clever_ferry.proving.contents import contents_of
from clever_ferry.proving.stories import Story, story_of
from clever_ferry.recipes import Game

__all__ = ["Related", "Relation", "relate", "told_relation"]

Relation = Literal["the same", "newer", "older", "different", "unsure"]
"""How the first side's save stands to the second's; `different` where facts agree and contents
do not, as after a change that shows nowhere; `unsure` where they have one name, and nothing tells
whether they are of one story."""


@dataclass(frozen=True)
class Related:
    """Two saves of one game that tell the same story, or one that has no like on the other side."""

    first: Save | None
    second: Save | None
    relation: Relation | None = None
    near: Save | None = None
    """Of a save without its like: one on the other side that may be of its story, and is paired."""
    is_to_near: Relation | None = None
    """How the save without its like stands to that one."""


def relate(first: Sequence[Save], second: Sequence[Save], game: Game) -> list[Related]:
    """Pair the saves of two berths of a game that are of one story, or may be.

    Of several that fit, those that are the same progress are paired first, then those that are
    surely of one story, the nearest in play time; then those that have only the name in common.
    """
    found: list[Related] = []
    left, right = list(first), list(second)
    for wanted in (("the same",), ("newer", "older", "different"), ("unsure",)):
        for save in list(left):
            likes = [(one, story_of(save, one, game)) for one in right]
            pairs = [
                (one, _relation(save, one, story, game.compared))
                for one, story in likes
                if story != "other"
            ]
            fitting = [pair for pair in pairs if pair[1] in wanted]
            if fitting:
                other, how = min(fitting, key=lambda pair: abs(_played(save) - _played(pair[0])))
                found.append(Related(save, other, how))
                left.remove(save)
                right.remove(other)
    found += [Related(save, None, None, *_near(save, second, game)) for save in left]
    found += [Related(None, save, None, *_near(save, first, game)) for save in right]
    return found


def _near(
    save: Save, others: Sequence[Save], game: Game
) -> tuple[Save, Relation] | tuple[None, None]:
    """Return the save nearest to another's progress that may be of its story, and how that is."""
    likes = [(one, story_of(save, one, game)) for one in others]
    likes = [(one, story) for one, story in likes if story != "other"]
    if not likes:
        return None, None
    one, story = min(
        likes, key=lambda like: (like[1] != "same", abs(_played(save) - _played(like[0])))
    )
    return one, _relation(save, one, story, game.compared)


def told_relation(related: Related) -> str:
    """Return in words how the first side's save stands to the second's."""
    told: dict[Relation | None, str] = {
        "the same": "the same progress",
        "newer": "the first is ahead",
        "older": "the second is ahead",
        "different": "the same facts, other contents",
        "unsure": "of the same name; I can't tell whether it is the same story",
        None: "",
    }
    return told[related.relation]


def _played(save: Save) -> float:
    values = [fact.value for fact in save.facts if fact.unit == "s"]
    return max((float(v) for v in values if isinstance(v, int | float)), default=0.0)


def _relation(
    save: Save, other: Save, story: Story, compared: Mapping[str, Comparison]
) -> Relation:
    facts, others = ({fact.key: fact for fact in one.facts} for one in (save, other))
    shared = facts.keys() & others.keys() & compared.keys()
    alike = all(
        compared[key].allows(facts[key], others[key])
        for key in shared
        if compared[key].how in ("same", "within")
    )
    if alike and _played(save) == _played(other):
        contents = contents_of(save), contents_of(other)
        if "" in {*contents[0].values(), *contents[1].values()}:
            return "unsure"  # what can't be read can't be compared
        if contents[0] == contents[1]:
            return "the same"
    if story != "same":
        return "unsure"
    if _played(save) != _played(other):
        return "newer" if _played(save) > _played(other) else "older"  # free: they differ
    if alike:
        return "different"
    return "newer" if (save.stamp or 0) > (other.stamp or 0) else "older"  # free: all have one
