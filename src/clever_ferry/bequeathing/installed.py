"""Tables of an installed game, with those of add-ons laid over them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path, PurePosixPath
from typing import Any

from clever_ferry.bequeathing.conditions import condition
from clever_ferry.bequeathing.rows import RowTable, rows_of, text
from clever_ferry.cargo import Piece, Save
from clever_ferry.documents.document import form_of, values_in
from clever_ferry.documents.form import Form
from clever_ferry.errors import DamagedError, NotFoundError, RefusedError
from clever_ferry.layers.known import Known
from clever_ferry.moving.disk import read_front
from clever_ferry.moving.files import FolderFiles
from clever_ferry.payload import Payload
from clever_ferry.recipes.bequest_models import InstallationInfo, SideInfo
from clever_ferry.recipes.tables import read_tables

__all__ = ["enabled_addons", "installed_tables"]

_FRONT = 1 << 16


class _PlainReader:
    """An installation's files as they are read by the tables' reader: with no wrapping."""

    def __init__(self, forms: Mapping[str, Form]) -> None:
        self._forms = forms

    def inside(self, piece: Piece, known: Known) -> tuple[Payload, Any]:
        """Return a file's bytes."""
        return piece.payload, None

    def form_of(self, role: str, payload: Payload) -> Form | str:
        """Return a file's form."""
        return self._forms[role]


def enabled_addons(side: SideInfo, forms: Mapping[str, Any], folder: Path) -> tuple[str, ...]:
    """Return the names of the add-ons that an installation says are in use; none without a file."""
    enabled = side.addons.enabled if side.addons is not None else None
    files = FolderFiles(folder)
    if enabled is None or files.info(enabled.file) is None:
        return ()
    form = form_of(enabled.holds, forms)
    (found,) = values_in(form, files.payload(enabled.file), [enabled.at])
    return tuple(dict.fromkeys(text(one) for one in found))


def installed_tables(
    side: SideInfo, forms: Mapping[str, Any], folder: Path, addons: Sequence[str], words: str
) -> dict[str, RowTable]:
    """Return the tables of the game in a folder, with those of add-ons (by name) laid over.

    Raises NotFoundError where a file is not there, DamagedError where one can't be read, and
    RefusedError where it is of a version that the recipe is not made for.
    """
    info = side.game
    assert info is not None, "a recipe that was checked"
    _refuse_other_version(info, folder, words)
    found = _tables(info, forms, folder, words, needed=True)
    layered = side.addons.folder if side.addons is not None else None
    for addon in addons if layered is not None else ():
        top = folder.joinpath(*PurePosixPath((layered or "").replace("{name}", addon)).parts)
        if not top.is_dir():
            raise NotFoundError(
                f"The add-on {addon} is in use, and {words} has it not.",
                details=(f"It would be in {top}",),
                advice="Install it there, or name the installation that has it.",
            )
        for name, rows in _tables(info, forms, top, words, needed=False).items():
            found[name] = _over(found[name], rows)
    return found


def _tables(
    info: InstallationInfo, forms: Mapping[str, Any], folder: Path, words: str, *, needed: bool
) -> dict[str, RowTable]:
    files = FolderFiles(folder)
    pieces, compiled = [], {}
    for role, file in info.files.items():
        there = files.info(file.path)
        if there is None:
            if needed:
                raise NotFoundError(
                    f"{words} is not whole, or not in {folder}.",
                    details=(f"There is no {file.path}.",),
                    advice="Name the folder that the game itself is in.",
                )
            continue
        compiled[role] = form_of(file.holds, forms)
        pieces.append(Piece(role, {}, files.payload(file.path), there.size, there.stamp,
                            file.path, (file.path,)))  # fmt: skip
    tables = {name: one for name, one in info.tables.items() if {*one.roles} & compiled.keys()}
    found = read_tables(tables, _PlainReader(compiled), Save(0, {}, tuple(pieces)))
    for table in found:
        # A row that an add-on only changes may name rows that are not there but in the game.
        odd = [one for one in table.troubles if needed or not table.all_held]
        if odd or not table.all_held:
            raise DamagedError(
                f"{table.label} of {words} can't be read as they should.",
                details=tuple(f"  {folder}: {one}" for one in odd),
            )
    return {table.name: rows_of(table) for table in found}


def _over(rows: RowTable, addon: RowTable) -> RowTable:
    """Lay an add-on's rows over others: those of the same id are replaced, others are added."""
    columns = {name: list(values) for name, values in rows.columns.items()}
    at = rows.by_id() if rows.id is not None else {}
    for number, ident in enumerate(addon.ids() if rows.id is not None else [""] * addon.count):
        for name, values in columns.items():
            value = addon.columns[name][number]
            if ident in at:
                values[at[ident]] = value
            else:
                values.append(value)
    return RowTable(rows.label, rows.id, rows.named, columns)


def _refuse_other_version(info: InstallationInfo, folder: Path, words: str) -> None:
    if info.version is None or info.versions is None:
        return
    path = folder.joinpath(*PurePosixPath(info.version.file).parts)
    try:
        front = read_front(path, _FRONT)[0].decode("utf-8", "replace")
    except OSError:
        raise NotFoundError(
            f"{words} is not whole, or not in {folder}.",
            details=(f"There is no {info.version.file}, which says of which version it is.",),
            advice="Name the folder that the game itself is in.",
        ) from None
    found = info.version.version_in(front)
    if found is None or not condition(info.versions).fits(found):
        is_ = f"is of the version {found}" if found else "does not say of which version it is"
        raise RefusedError(
            f"{words} {is_}, and the recipe is made for {info.versions}.",
            details=(f"It is in {folder}",),
            advice="Install one of these versions, or take a recipe for yours.",
        )
