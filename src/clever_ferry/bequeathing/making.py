"""From a save's tables to the successor's files, laid out in a folder; and what was done."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from pathlib import Path, PurePosixPath
from typing import Any

from clever_ferry.bequeathing.bequest import FACTS, SLOT, Bequest
from clever_ferry.bequeathing.conditions import condition
from clever_ferry.bequeathing.deriving import MakeReport, Work, filled, made
from clever_ferry.bequeathing.mapping import Shares
from clever_ferry.bequeathing.rows import RowDicts, RowTable, number, text
from clever_ferry.cargo import Save
from clever_ferry.errors import DamagedError, RefusedError, WrongUseError
from clever_ferry.recipes.bequest_models import OptionInfo, SharesInfo
from clever_ferry.recipes.tables import Table, number_in

__all__ = [
    "Made",
    "chosen_options",
    "make_all",
    "option_line",
    "refuse_unfit",
    "unlike",
    "write_all",
]

_BARRED = set('/\\:*?"<>|') | {chr(code) for code in range(32)}
_TOLD = 10


@dataclass(frozen=True)
class Made:
    """What was made of one save."""

    bequest: Bequest
    options: Mapping[str, Any]
    tables: Mapping[str, RowTable]
    """Those that there were, and those that were made, as the recipe calls them."""
    told: Mapping[str, MakeReport]
    """What was done, by table that was made."""
    facts: Mapping[str, Any]
    addons: tuple[str, ...] = ()

    def lean(self) -> Made:
        """Return it with only those tables that are drawn: others can be large."""
        maps = self.bequest.recipe.maps
        sides = (maps.before, maps.after) if maps is not None else ()
        drawn = {name for one in sides for name in (one.table, one.of, one.at)}
        kept = {name: rows for name, rows in self.tables.items() if name in drawn}
        return replace(self, tables=kept)

    @property
    def made(self) -> dict[str, RowTable]:
        """The tables that were made."""
        return {name: self.tables[name] for name in self.told}


def chosen_options(
    bequest: Bequest, preset: str | None, given: Mapping[str, Any]
) -> dict[str, Any]:
    """Return each option's value: what was given (texts, too), the preset's, or its default.

    Presets and options of other recipes are passed by. Raises WrongUseError for a value that an
    option can't have.
    """
    recipe = bequest.recipe
    found = {name: info.default for name, info in recipe.options.items()}
    if preset in recipe.presets:
        found |= recipe.presets[preset or ""].set
    for name, info in recipe.options.items():
        if name in given:
            found[name] = _option_value(info, given[name])
        if why := info.fault(found[name]):
            raise WrongUseError(
                f"The option {name} can't be {text(found[name])!r:.60}: {why}.",
                details=(option_line(name, info),),
            )
    return found


def option_line(name: str, info: OptionInfo) -> str:
    """Return what an option is about, and what it usually is."""
    return f"  {name}  {info.label} (usually {text(info.default)})"


def _option_value(info: OptionInfo, value: Any) -> Any:
    """Return what a text says, as the option takes it."""
    if not isinstance(value, str):
        return value
    if info.kind_ == "yes-no":
        words = {"yes": True, "true": True, "no": False, "false": False}
        return words.get(value.strip().casefold(), value)
    if info.kind_ == "number":
        found = number_in(value.strip())
        return value if found is None else found
    return value


def refuse_unfit(bequest: Bequest, save: Save) -> None:
    """Raise RefusedError where a save is not as the recipe needs it, such as finished."""
    for need in bequest.recipe.was.needs:
        fact = save.fact(need.fact)
        if fact is None or not condition(need.is_).fits(fact.value):
            label = bequest.source.fact_labels[need.fact]
            raise RefusedError(
                f"{save.title}: {need.says}",
                details=(f"{label} is {fact.text if fact else 'not told'}, and it must be "
                         f"{need.is_}.",),
            )  # fmt: skip


def make_all(
    bequest: Bequest, save: Save, tables: Mapping[str, RowTable], addons: Sequence[str],
    options: Mapping[str, Any], progress: Callable[[str], None] = lambda _: None,
) -> Made:  # fmt: skip
    """Make all tables; `tables` are those of the save and of both installations.

    Raises DamagedError where a mapping does not fit them.
    """
    mappings = bequest.mappings(addons)
    for name, one in mappings.items():
        if isinstance(one, Shares):
            _refuse_unfitting(name, one, tables)
    facts = {fact.key: fact.value for fact in save.facts}
    row = {key: [facts.get(key)] for key in bequest.source.fact_labels}
    known = {**tables, FACTS: RowTable("What it is known by", None, None, row)}
    work = Work(bequest.recipe, known, mappings, options)
    told: dict[str, MakeReport] = {}
    for info in bequest.recipe.make:
        progress(info.label or info.table)
        work.tables[info.table], told[info.table] = made(info, work)
    return Made(bequest, options, work.tables, told, facts, tuple(addons))


def _refuse_unfitting(name: str, shares: Shares, tables: Mapping[str, RowTable]) -> None:
    """Raise DamagedError where a mapping names what is nowhere, or has nothing of what is there."""
    info: SharesInfo = shares.info
    froms, tos = set(tables[info.source].ids()), set(tables[info.target].ids())
    known = froms | (set(tables[info.also].ids()) if info.also is not None else set())
    faults = []
    for (one, other), line in shares.lines.items():
        if one not in known:
            faults.append(f"{line.at}: there is no {one!r} to go from")
        if other not in tos:
            faults.append(f"{line.at}: there is no {other!r} to go to")
    if info.rest is not None and info.rest not in tos:
        faults.append(f"mappings.{name}.rest: there is no {info.rest!r} to go to")
    if info.rest is None:
        lacking = [one for one in tables[info.source].ids() if one not in shares.of]
        if lacking:
            shown = ", ".join(lacking[:_TOLD]) + (" …" if len(lacking) > _TOLD else "")
            faults.append(
                f"{info.file}: it has nothing of {len(lacking):,} that are there: {shown}; give "
                f"each a line, or say mappings.{name}.rest"
            )
    if faults:
        more = (f"and {len(faults) - _TOLD:,} more",) if len(faults) > _TOLD else ()
        raise DamagedError(
            "A mapping does not fit these games.", details=(*faults[:_TOLD], *more),
            advice="Mend the file beside the recipe; or name the installations that it is made "
            "for.",
        )  # fmt: skip


def write_all(made: Made, folder: Path) -> None:
    """Write the successor's pieces into an empty folder, as the undressed edition has them.

    The same tables and options give the same bytes. Raises DamagedError where one can't be written.
    """
    recipe, edition = made.bequest.recipe, made.bequest.undressed
    spoken = {**dict.fromkeys(made.bequest.source.fact_labels), **made.options, **made.facts}
    fields = {name: _filled(pattern, spoken) for name, pattern in recipe.bequest.fields.items()}
    named = {SLOT: "1", **fields} if SLOT in edition.fields else fields
    rows = {name: RowDicts(one) for name, one in made.made.items()}
    values: dict[str, Any] = {
        **rows, "options": dict(made.options), "facts": dict(made.facts), "fields": fields,
        "addons": list(made.addons),
    }  # fmt: skip
    for output in recipe.files:
        for row in rows[output.each] if output.each is not None else [None]:
            own = dict(named)
            if (several := edition.pieces[output.role].each) is not None:
                own[several] = filled(output.name or "", row or {})
            path = _path(made.bequest, output.role, own, folder)
            asked = {**values, "row": row} if row is not None else values
            ending = "\r\n" if output.ending == "crlf" else "\n"
            try:
                with path.open("x", encoding=output.encoding, newline=ending) as file:
                    for part in made.bequest.templates.write(output.template, output.form, asked):
                        file.write(part)
            except FileExistsError:
                raise DamagedError(f"Two of {output.role} that would be written are the same: "
                                   f"{output.name} is {path.name}.") from None  # fmt: skip
            except UnicodeEncodeError as error:
                raise DamagedError(
                    f"The {output.role} is written as {output.encoding}, which has no "
                    f"{error.object[error.start]!r}."
                ) from None
    if recipe.record is not None:
        _path(made.bequest, recipe.record, named, folder).write_bytes(record(made))


def record(made: Made) -> bytes:
    """Return what was chosen, as a file of options has it."""
    told = {"bequest": made.bequest.id, "addons": list(made.addons), "options": dict(made.options)}
    lines = [
        f"{key} = {json.dumps(told[key], ensure_ascii=False)}" for key in ("bequest", "addons")
    ]
    lines += ["", "[options]"]
    lines += [f"{name} = {json.dumps(value, ensure_ascii=False)}"
              for name, value in made.options.items()]  # fmt: skip
    return ("\n".join(lines) + "\n").encode()


def _filled(pattern: str, values: Mapping[str, Any]) -> str:
    """Fill facts and options into a name; what no file's name can have becomes `-`."""
    found = filled(pattern, values)
    return "".join("-" if char in _BARRED else char for char in found).strip(". ") or "-"


def _path(bequest: Bequest, role: str, texts: Mapping[str, str], folder: Path) -> Path:
    """Return where a piece stands in the undressed edition; the folder for it is made."""
    edition = bequest.undressed
    file = next(one for one in edition.files if one.role == role)
    values = {name: edition.fields[name].parse(text) for name, text in texts.items()
              if name in edition.fields}  # fmt: skip
    path = folder.joinpath(*PurePosixPath(file.write(values)).parts)
    path.parent.mkdir(parents=True, exist_ok=True)
    return path


def unlike(made: Made, read: Mapping[str, Table]) -> list[str]:
    """Return where the successor's own tables are not what was made, row by row."""
    faults: list[str] = []
    for info in made.bequest.recipe.make:
        if info.reads is None:
            continue
        table, rows = read[info.reads], made.tables[info.table]
        if not table.all_held:
            faults += [f"{table.label}: {one}" for one in table.troubles or ("not all is read",)]
            continue
        faults += [f"{table.label}: {one}" for one in table.troubles]
        order = _order(table.column(info.id).values, rows.columns[info.id])
        if order is None:
            faults.append(f"{table.label}: {table.count:,} are there, and {rows.count:,} others "
                          f"were made, by their {info.id}")  # fmt: skip
            continue
        for column in table.columns:
            if column.name not in rows.columns:
                continue
            for row, (at, value) in enumerate(zip(order, rows.columns[column.name], strict=True)):
                found = column.values[at]
                if not _alike(found, value):
                    faults.append(
                        f"{table.label}: {column.name} of {rows.name(row)} is {text(found)!r:.40}, "
                        f"and was to be {text(value)!r:.40}"
                    )
    return faults


def _order(there: Sequence[Any], made: Sequence[Any]) -> Sequence[int] | None:
    """Return where each row that was made stands among those read; None where one lacks."""
    if len(there) != len(made):
        return None
    if all(text(one) == text(other) for one, other in zip(there, made, strict=True)):
        return range(len(made))
    at = {text(value): row for row, value in enumerate(there)}
    order = [at.get(text(value), -1) for value in made]
    return None if -1 in order or len(at) < len(made) else order


def _alike(found: Any, value: Any) -> bool:
    """Tell whether a value was read back as what was written: numbers as their decimals say."""
    if text(found) == text(value):
        return True
    numbers = [number(one) if number(one) is not None else number_in(text(one).strip())
               for one in (found, value)]  # fmt: skip
    return None not in numbers and numbers[0] == numbers[1]
