"""Uploads: what a server's panel that only takes files is given, laid out as the server has it.

The save is carried into an empty folder of this computer, as to any place, read back and compared;
what then lies there goes into zips.
"""

from __future__ import annotations

import tempfile
import zipfile
from collections.abc import Callable, Mapping, Sequence
from contextlib import ExitStack
from pathlib import Path, PurePath
from typing import TYPE_CHECKING

from msgspec import Struct
from msgspec.structs import replace

from clever_ferry.crossing.aftermath import steps_after, steps_before
from clever_ferry.errors import FerryError, UnsupportedError
from clever_ferry.moving.files import FolderFiles
from clever_ferry.moving.outputs import new_file
from clever_ferry.moving.zip_times import stamped
from clever_ferry.payload import BytesPayload, read_all
from clever_ferry.tree import FileInfo

if TYPE_CHECKING:
    from clever_ferry.crossing.carrying import Crossed
    from clever_ferry.crossing.plan import Plan
    from clever_ferry.finding.berths import OpenBerth
    from clever_ferry.recipes import Edition, Game

__all__ = ["Upload", "folder_there", "write_upload"]

_OWN = "the server's folder"
_LARGEST_CONFIG = 1 << 20


class Upload(Struct, frozen=True):
    """What was written, and what is to be done with it."""

    plan: Plan
    crossed: Crossed
    parts: tuple[Path, ...]
    lines: tuple[tuple[str, str], ...]
    """By a config's file, what it must say to have the save loaded."""
    steps: tuple[str, ...]
    """What to do, in order."""


def write_upload(
    source: OpenBerth, game: Game, edition: Edition, slots: str | None, file: Path, *,
    part_size: int | None = None,
    given: Mapping[str, str] | None = None, waived: Sequence[str] = (),
    shown: Callable[[Plan], None] = lambda plan: None,
) -> Upload:  # fmt: skip
    """Write one or several saves for an edition into one zip, or several of about a size.

    `shown` is told of the plan before anything is written. Raises UnsupportedError where the
    edition keeps its saves in a box, RefusedError where a file is there already, and all that a
    crossing to an empty folder raises.
    """
    from clever_ferry.crossing.carrying import carry_out
    from clever_ferry.crossing.configuring import left_alone
    from clever_ferry.crossing.planning import make_plan
    from clever_ferry.finding import open_berth
    from clever_ferry.finding.computers import Computer
    from clever_ferry.finding.searching import berth_at
    from clever_ferry.finding.signs import Signs
    from clever_ferry.keeping.keeps import Keeps

    if edition.box_title is not None:
        raise UnsupportedError(
            f"{edition.title} keeps all its saves in one box, which only goes as a whole.",
            advice=f"Carry to it where its box can be reached: {game.id}/{edition.id}@PLACE",
        )
    with tempfile.TemporaryDirectory(prefix="cferry-upload-") as scratch:
        folder = Path(scratch, "there")
        folder.mkdir()
        server = Computer("a server", "linux", running=())
        target = open_berth(berth_at(server, game, edition, folder), given=given)
        plan = make_plan(
            source, target, chosen=None, slots=slots, given=given or {}, waived=waived, tell=False
        )
        own = left_alone(target).notes  # of its config, which is not here, the steps speak
        plan = replace(plan, notes=tuple(one for one in plan.notes if one not in own))
        shown(plan)
        crossed = carry_out(plan, Keeps(Path(scratch, "own")), Signs)
        files = list(FolderFiles(folder).walk(lambda _: True))
        parts = _parted(files, part_size)
        names = _names(file, len(parts))
        with ExitStack() as made:  # all of them, or none
            for name, part in zip(names, parts, strict=True):
                _write(made.enter_context(new_file(name)), folder, part)
    lines = _lines(edition, plan)
    steps = _steps(edition, plan, crossed, names, lines)
    return Upload(plan, crossed, tuple(names), lines, steps)


def _parted(files: Sequence[FileInfo], most: int | None) -> list[list[FileInfo]]:
    """Return the files in groups of at most so many bytes; a larger file is a group by itself."""
    groups: list[list[FileInfo]] = [[]]
    room = most
    for one in files:
        if most is not None and room is not None and groups[-1] and one.size > room:
            groups.append([])
            room = most
        groups[-1].append(one)
        room = room - one.size if room is not None else None
    return groups


def _names(file: Path, count: int) -> list[Path]:
    if count == 1:
        return [file]
    return [file.with_name(f"{file.stem}-{at}-of-{count}.zip") for at in range(1, count + 1)]


def _write(part: Path, folder: Path, files: Sequence[FileInfo]) -> None:
    with zipfile.ZipFile(part, "x", zipfile.ZIP_DEFLATED) as made:
        for one in files:
            info = stamped(one.path, one.stamp)
            info.compress_type = zipfile.ZIP_DEFLATED
            whole = folder / one.path
            with made.open(info, "w", force_zip64=True) as out, whole.open("rb") as raw:
                while block := raw.read(1 << 20):
                    out.write(block)


def _lines(edition: Edition, plan: Plan) -> tuple[tuple[str, str], ...]:
    """Return what each config must say; as its own form spells it, where an empty one can be."""
    if len(plan.moves) != 1:
        return ()
    fields = {**plan.target.berth.fields, **plan.moves[0].fields}
    values = {name: edition.fields[name].write(value) or "" for name, value in fields.items()}
    found = []
    for config in edition.configs:
        try:
            raw = config.named(BytesPayload(b""), values)
            told = read_all(raw, limit=_LARGEST_CONFIG, what="it").decode() if raw else ""
        except (FerryError, UnicodeDecodeError):
            told = ""
        plain = (f"{place}: {text}" for place, text in config.filled(values).items())
        found.append((config.info.file, told.strip() or "\n".join(plain)))
    return tuple(found)


def folder_there(plan: Plan) -> str:
    """Return what the folder is called in which the files will be used: a server's, a device's."""
    berth = plan.target.berth
    path = next((one.pattern for one in berth.edition.berths if one.pattern), None)
    return path.partly({**berth.fields, **plan.given}) if path is not None else _OWN


def _steps(
    edition: Edition, plan: Plan, crossed: Crossed, parts: Sequence[Path],
    lines: Sequence[tuple[str, str]],
) -> tuple[str, ...]:  # fmt: skip
    def its(folder: PurePath) -> str:
        return folder_there(plan)

    named = parts[0].name if len(parts) == 1 else f"{parts[0].name} to {parts[-1].name}"
    where = folder_there(plan)
    put = f"Unpack {named} into {where}, by hand or by the panel."
    if where == _OWN:
        put = f"Upload {named} to {where}, and unpack there."
    told = [f"In {file}, have it say: {' '.join(text.split())}" for file, text in lines]
    if not told and edition.configs:
        told = ["Several saves are in it: its config names the one that you want loaded."]
    return (
        *steps_before(plan, its),
        "Make a copy of what stands there: nobody has kept one here.",
        put,
        *told,
        *steps_after(plan, [proof.save for proof in crossed.proofs], its),
    )
