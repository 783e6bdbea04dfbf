"""A box that was found, and the folder that it was found in."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import msgspec

from clever_ferry.boxes import Box, Contents
from clever_ferry.drafting.tabling import Laid
from clever_ferry.errors import FerryError
from clever_ferry.layouts import compile_layouts
from clever_ferry.payload import Payload, head
from clever_ferry.recipes.compiling import compile_box
from clever_ferry.recipes.models import BoxRecipe
from clever_ferry.studying.budget import MOST_HELD, Budget
from clever_ferry.studying.names import NameKind
from clever_ferry.tree import FileInfo, Files

__all__ = ["Boxed", "Folder", "Inside"]


class Inside:
    """What is in a box, as the files of a folder."""

    fold = False

    def __init__(self, contents: Contents) -> None:
        self._payloads = {one.name: one.payload for one in contents.entries if not one.problem}
        self._infos = {
            one.name: FileInfo(one.name, one.size or 0, one.stamp or 0)
            for one in contents.entries if not one.problem
        }  # fmt: skip

    def walk(self, enter: Callable[[str], bool]) -> Iterable[FileInfo]:
        """Return the entries, sorted by name."""
        return [self._infos[name] for name in sorted(self._infos)]

    def info(self, path: str) -> FileInfo | None:
        """Return one entry's data."""
        return self._infos.get(path)

    def payload(self, path: str) -> Payload:
        """Return its bytes."""
        return self._payloads[path]

    def listed(self, info: FileInfo) -> Payload:
        """Return its bytes."""
        return self._payloads[info.path]


@dataclass
class Boxed:
    """A box: what a recipe says of it, and what is in it."""

    format: dict[str, Any]
    layouts: dict[str, Laid] = field(default_factory=dict)
    doubts: list[str] = field(default_factory=list)
    inside: Files = field(init=False)
    left: tuple[str, ...] = ()
    """Files beside it that are none of its own."""
    repeating: dict[tuple[str, str], dict[str, Any]] = field(default_factory=dict)
    """By a database's tables and columns, what stands there for each entry that was looked at: it
    may be what names say, or what nobody knows."""
    odd: float = 0.0
    """How unlikely it is built so, beside what is not understood of it."""

    @property
    def cost(self) -> float:
        """How much speaks against it: of several ways, the one with the least is taken."""
        return self.odd + sum(one.cost for one in self.layouts.values())

    @property
    def recipe(self) -> BoxRecipe:
        """Its recipe; raises ValidationError where no recipe can be so."""
        said = {
            "recipe": 1, "box": {"id": "drafted", "title": "Drafted"}, "format": self.format,
            "layouts": {name: {"fields": one.fields} for name, one in self.layouts.items()},
        }  # fmt: skip
        return msgspec.convert(said, BoxRecipe, strict=True)

    def compiled(self, files: Files) -> tuple[Box, Contents]:
        """Return it as its recipe makes it, and what is in it; raises FerryError as those do."""
        box = compile_box(self.recipe)
        return box, box.read(files, lambda _: True)

    def doubt(self, record: Laid, front: Laid, tail: Laid) -> None:
        """Say what of its records is not understood, and what may be a checksum around them."""
        if record.unclear:
            self.doubts.append(
                f"{record.unclear} bytes of each entry's record in the index are not clear: they "
                "stay as they are, and are zeros in what is new"
            )
        if tail.unclear:
            self.doubts.append(
                f"{tail.unclear} bytes at the end of the index are not clear: they stay as they "
                "are, which no checksum may"
            )
        if front.dense:
            self.doubts.append(
                "bytes in front of the index look like a checksum, and none fits: they stay as "
                "they are"
            )

    @property
    def title(self) -> str:
        """What kind of box it is, in a few words."""
        each = "each" in self.format
        return {
            "indexed": "an index over blobs", "shelves": "folders with an index each",
            "packed": "one file with a table of what is in it", "zip": "zip archives",
            "tar": "tar archives", "nodes": "one document for all saves",
            "sqlite": f"a database{' for each save' * each}",
        }[str(self.format["kind"])]  # fmt: skip


@dataclass
class Folder:
    """A folder's files, which are of which kind, and the names that stand in its own path."""

    files: Files
    infos: Mapping[str, FileInfo]
    kinds: Sequence[NameKind]
    texts: Mapping[str, str]
    own: str
    """What the names of layouts begin with."""
    budget: Budget

    def best(self, ways: Iterable[Boxed]) -> Boxed | None:
        """Return of ways in which it may be a box the one that is understood best."""
        right = [one for one in ways if self.opens(one)]
        return min(right, key=lambda one: one.cost, default=None)

    def opens(self, found: Boxed) -> bool:
        """Tell whether it is what the folder is, and note what is in it."""
        try:
            _, contents = found.compiled(self.files)
            codecs = compile_layouts(found.recipe.layouts)
            for path, layout in self._own_files(found):
                raw = self.raw(path)
                codec = codecs[layout]
                if codec.write(codec.read_whole(raw)) != raw:
                    return False
        except (FerryError, msgspec.ValidationError, OSError, ValueError):
            return False
        whole = [one for one in contents.entries if not one.problem]
        if len(whole) < 2 or 2 * len(whole) < len(contents.entries):
            return False
        found.inside = Inside(contents)
        used = {*contents.files, *contents.passed}
        found.left = tuple(one for one in self.infos if one not in used)
        return True

    def _own_files(self, found: Boxed) -> Iterator[tuple[str, str]]:
        """Yield the box's own files, and which layout each is."""
        spec = found.format
        if spec["kind"] in ("indexed", "packed"):
            yield str(spec.get("index", spec.get("file"))), str(spec["layout"])
        elif spec["kind"] == "shelves":
            if "top" in spec:
                yield spec["top"]["index"], spec["top"]["layout"]
            for path in self.infos:
                if path.endswith(f"/{spec['shelf']['index']}"):
                    yield path, spec["shelf"]["layout"]

    def raw(self, path: str) -> bytes:
        """Return a file's bytes, as far as they are looked at."""
        return head(self.files.payload(path), MOST_HELD)
