"""Files that tell a game, a server mostly, which save to load: as compiled, and what they say."""

from __future__ import annotations

import re
from collections.abc import Collection, Mapping, Sequence
from typing import NamedTuple

from clever_ferry.documents.document import FORMS, Insert, Put, changed, form_of, values_in
from clever_ferry.documents.form import Form
from clever_ferry.documents.places import place_fault
from clever_ferry.naming import Names, Pattern
from clever_ferry.payload import Payload
from clever_ferry.recipes.faults import Faults
from clever_ferry.recipes.loader_models import filled
from clever_ferry.recipes.models import ConfigInfo, EditionInfo, GameRecipe
from clever_ferry.recipes.parts import WITHIN, PieceFile
from clever_ferry.wording import known

__all__ = ["Config", "compile_configs"]

_NAMED = re.compile(r"\{(\w+)\}")


class Config(NamedTuple):
    """One such file, and its form."""

    info: ConfigInfo
    form: Form

    def lacks(self, values: Mapping[str, str]) -> list[str]:
        """Return the fields that must be named and have no value."""
        texts = (*self.info.set.values(), *self.info.add.values())
        every = [name for text in texts for name in _NAMED.findall(text)]
        return [name for name in dict.fromkeys(every) if name not in values]

    def filled(self, values: Mapping[str, str]) -> dict[str, str]:
        """Return what must stand at which place."""
        return {place: filled(text, values) for place, text in self.info.set.items()}

    def named(self, source: Payload, values: Mapping[str, str]) -> Payload | None:
        """Return the file as it names a save by its fields; None where it does so already.

        Raises FerryError where the file is damaged, or can't hold what should stand there.
        """
        wanted = self.filled(values)
        there = values_in(self.form, source, list(wanted))
        changes: list[Put | Insert] = []
        for (place, text), found in zip(wanted.items(), there, strict=True):
            if not found:
                changes.append(Insert(place, text))
            elif any(str(one) != text for one in found):
                number = all(type(one) is int for one in found) and _is_number(text)
                changes.append(Put(place, int(text) if number else text))
        lists = {place: filled(text, values) for place, text in self.info.add.items()}
        listed = values_in(self.form, source, [f"{place}/*" for place in lists])
        for (place, text), found in zip(lists.items(), listed, strict=True):
            if text not in map(str, found):
                changes.append(Insert(f"{place}/-", text))
        return changed(self.form, source, changes) if changes else None

    def names(self, source: Payload, values: Mapping[str, str]) -> bool:
        """Tell whether the file names a save by its fields."""
        return self.named(source, values) is None


def _is_number(text: str) -> bool:
    """Tell whether a text is how a whole number is written."""
    return text.isdecimal() and text == str(int(text))


def compile_configs(
    info: EditionInfo, recipe: GameRecipe, fields: Collection[str], files: Sequence[PieceFile],
    never: Sequence[Pattern | None], faults: Faults,
) -> tuple[Config, ...]:  # fmt: skip
    """Return an edition's config files; what is wrong with them is added to `faults`.

    `fields` are those that a save that is carried will have.
    """
    found: list[Config] = []
    trees = [file for file in files if file.tree]
    named = [(one, None) for file in files if not file.tree for one in file.patterns]
    pieces = Names(named, fold=True)
    barred = Names([(one, None) for one in never if one is not None], fold=True)
    for number, one in enumerate(info.config, 1):
        key = f"config[{number}]"
        if faults.pattern(f"{key}.file", one.file, {}) is None:
            continue
        if pieces.read(one.file) or any(
            (inside := tree.beneath(one.file, fold=True)) and inside[WITHIN] for tree in trees
        ):
            faults.add(f"{key}.file", "that is a file of its saves, which a crossing writes anyway")
        if barred.read(one.file):
            faults.add(f"{key}.file", "`never` says that it is not to be touched")
        if one.file in [other.info.file for other in found]:
            faults.add(f"{key}.file", "that stands here twice")
        for way, places in (("set", one.set), ("add", one.add)):
            for place, text in places.items():
                if why := place_fault(place):
                    faults.add(f"{key}.{way}", f"{place}: {why}")
                for name in _NAMED.findall(text):
                    if name not in fields:
                        faults.add(f"{key}.{way}", f"nothing fills {{{name}}}; {known(fields)}")
        if one.holds in {*FORMS, *recipe.forms}:
            found.append(Config(one, form_of(one.holds, recipe.forms)))
    return tuple(found)
