"""The box that a folder is, where it is one: archives, databases, an index over blobs, one file.

What is found is compiled as a recipe is, opened, and its own files are written again: what does not
come out byte for byte is no box.
"""

from __future__ import annotations

import io
import re
import zipfile
from collections.abc import Iterator, Sequence
from itertools import islice
from typing import Any

from clever_ferry.drafting.boxed import Boxed, Folder
from clever_ferry.drafting.databases import databases
from clever_ferry.drafting.indexing import Indexes
from clever_ferry.drafting.listed import documents
from clever_ferry.drafting.ranges import Ranges, odd, ranges_in
from clever_ferry.drafting.tabling import Bytes, front_fields, record_fields, tail_fields
from clever_ferry.errors import UnsupportedError
from clever_ferry.forms.recognising import recognise
from clever_ferry.studying.budget import MOST_HELD, Budget
from clever_ferry.studying.names import above, kinds_of_names
from clever_ferry.tree import Files

__all__ = ["box_in"]

_MOST_WAYS, _MOST_KINDS, _SAMPLES, _MOST_TABLES = 60, 20, 8, 6


def box_in(files: Files, place: str, own: str, budget: Budget) -> Boxed | None:
    """Return the box that a folder is, or None where it seems to be plain files.

    Raises UnsupportedError where it must be one, of a build that is not clear.

    `place` is the folder's own path, in which the account may stand; the layouts' names begin with
    `own`.
    """
    infos = {info.path: info for info in files.walk(lambda _: True)}
    folder = Folder(files, infos, kinds_of_names(infos), above(place), own, budget)
    indexes = Indexes(folder)
    every = (_archives(folder), databases(folder), documents(folder), indexes.shelves(),
             indexes.indexed(), _packed(folder))  # fmt: skip
    for ways in every:
        budget.begin("whether it is a box")
        if (found := folder.best(islice(ways, _MOST_WAYS))) is not None:
            return found
    if index := indexes.suspected():
        raise UnsupportedError(
            f"{index} in {place} is an index over files with names that mean nothing, and how it "
            "is built is not clear.",
            advice="docs/recipes.md says how a box is described; `cferry study` shows what is in "
            "the index.",
        )
    return None


# Archives -------------------------------------------------------------------------------------


def _archives(folder: Folder) -> Iterator[Boxed]:
    """Yield zips and tars, one for each save, or one for all of them."""
    singly = all(not kind.fields for kind in folder.kinds)
    for kind in folder.kinds[:_MOST_KINDS]:
        if (not kind.fields and not singly) or "/" in kind.pattern:
            continue
        paths = [one for one in kind.paths if folder.infos[one].size < MOST_HELD][:_SAMPLES]
        raws = [folder.raw(one) for one in paths]
        forms = {recognise(one[:4096]) for one in raws}
        if forms not in ({"zip"}, {"tar"}):
            continue
        spec = {"kind": forms.pop(), "file": re.sub(r"\{.*\}", "*", kind.pattern)}
        how = _how_packed(raws) if spec["kind"] == "zip" else {}
        yield Boxed({**spec, **({"each": True} if kind.fields else {}), **how})


def _how_packed(raws: Sequence[bytes]) -> dict[str, Any]:
    """Return how new entries of zips are to be packed, as those are that are there."""
    stored: dict[str, bool] = {}
    for raw in raws:
        try:
            with zipfile.ZipFile(io.BytesIO(raw)) as archive:
                for one in archive.infolist():
                    plain = one.compress_type == zipfile.ZIP_STORED
                    stored[one.filename] = stored.get(one.filename, True) and plain
        except (zipfile.BadZipFile, ValueError):
            continue
    names = sorted(name for name, plain in stored.items() if plain and not name.endswith("/"))
    if not names:
        return {}
    if len(names) == len(stored):
        return {"packed": False}
    return {"stored": names[:20]}


# One file -------------------------------------------------------------------------------------


def _packed(folder: Folder) -> Iterator[Boxed]:
    """Yield files that have a table of names and ranges in themselves, where no names tell saves
    apart."""
    if any(kind.fields for kind in folder.kinds):
        return
    by_size = sorted(folder.infos, key=lambda path: (-folder.infos[path].size, path))
    for path in by_size[:_SAMPLES]:
        if not 64 <= folder.infos[path].size <= MOST_HELD:
            continue
        raw = folder.raw(path)
        if recognise(raw[:4096]) != "unknown":
            continue
        for one in islice(ranges_in(raw, folder.budget), _MOST_TABLES):
            found = Boxed({})
            if _with_table(found, raw, one, folder, folder.infos[path].stamp):
                found.format = {
                    "kind": "packed", "file": path, "layout": f"{folder.own}index",
                    "record": f"{folder.own}row", "entries": "/rows", "name": "/name",
                    "data": "/blobs",
                }  # fmt: skip
                yield found


def _with_table(found: Boxed, raw: bytes, one: Ranges, folder: Folder, stamp: int) -> bool:
    """Describe a file as its table, its bytes, and what is around them; False where it can't be."""
    each, none = Bytes.of(one.blobs, [stamp] * len(one.blobs)), Bytes()
    record, _, roles = record_fields(
        one.rows, [raw], {}, each, none, one.reserved, "", folder.budget
    )
    body = raw[one.rows.ends[0] : one.end]
    totals = {"size": [sum(map(len, one.blobs))]}
    front = front_fields(
        [raw], one.rows, totals, {}, [stamp], folder.budget, bodies=[body], order=record.order
    )
    tail = tail_fields([raw], [one.end])
    if front is None or tail is None or not roles.name or front[1] == "rest":
        return False
    top, count, what = front
    top.add({"type": "list", "name": "rows", "of": f"{folder.own}row", "count": count})
    top.add(one.parts)
    top.append(tail)
    if "check" in what:
        name, span = what["check"]
        spec = next(field for field in top.fields if field.get("name") == name)
        spec["computed"]["of"] = {"inside": "blobs", "onward": "after"}.get(span, span)
    found.layouts |= {f"{folder.own}index": top, f"{folder.own}row": record}
    found.doubt(record, top, tail)
    found.odd = odd(raw, one)
    return True
