"""A container is opened: by a recipe that is named, by one that fits, or by its content."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from msgspec.structs import replace

from clever_ferry.boxes import Box, Contents
from clever_ferry.boxes.archives import ArchiveBox
from clever_ferry.boxes.spec import ArchiveSpec, TableSpec
from clever_ferry.boxes.tables import TableBox
from clever_ferry.errors import (
    ChoiceNeededError,
    FerryError,
    NotFoundError,
    UnknownNameError,
    UnsupportedError,
)
from clever_ferry.forms.recognising import COMPRESSED, recognise
from clever_ferry.layers import Chain, LayerSpec, Unwrapped, compile_layers
from clever_ferry.layers.spec import CompressedSpec
from clever_ferry.model import tagged
from clever_ferry.moving.files import FolderFiles
from clever_ferry.payload import head
from clever_ferry.recipes import Recipes

__all__ = ["Opened", "open_container", "opened_as"]

_MOST_LAYERS = 4


@dataclass(frozen=True)
class Opened:
    """A container: a box with its contents, or layers with what they wrap."""

    how: str
    """How to open it again: `box:ID`, `layers:GAME:NAME`, `content:gzip+xz`, `content:zip`."""
    files: FolderFiles
    file: str | None
    """The one file that it is, or None for a folder."""
    box: Box | None = None
    contents: Contents | None = None
    chain: Chain | None = None
    unwrapped: Unwrapped | None = None

    @property
    def paths(self) -> list[str]:
        """The files that it is made of."""
        if self.file is not None:
            return [self.file]
        return [info.path for info in self.files.walk(lambda _: True)]


def open_container(path: Path, recipes: Recipes, name: str | None) -> Opened:
    """Open a file or folder, by the recipe `name` (`BOX` or `GAME:LAYER`) where one is given.

    Raises ChoiceNeededError where several recipes fit, UnsupportedError where none does and
    the content tells nothing, and DamagedError where it can't be read.
    """
    if not path.exists():
        raise NotFoundError(f"There is nothing at {path}.")
    if name is not None:
        game, colon, layer = name.partition(":")
        return opened_as(path, recipes, f"layers:{game}:{layer}" if colon else f"box:{name}")
    if path.is_dir():
        return _by_fitting_box(path, recipes)
    kinds: list[str] = []
    payload = FolderFiles(path.parent).payload(path.name)
    kind = recognise(head(payload, 4096))
    while kind in COMPRESSED and len(kinds) < _MOST_LAYERS:
        kinds.append(kind)
        unwrapped = _content_chain(kinds).unwrap(payload)
        kind = recognise(head(unwrapped.payload, 4096))
    if kinds:
        return opened_as(path, recipes, "content:" + "+".join(kinds))
    if kind in ("zip", "tar"):
        return opened_as(path, recipes, f"content:{kind}")
    raise UnsupportedError(
        f"{path.name} is {_KINDS.get(kind, 'of a kind that is not known')}, and no known box.",
        advice="If you have a recipe for it, name it: --as BOX, or --as GAME:LAYER "
        "(`cferry recipe list` shows them).",
    )


_KINDS = {
    "archive": "an archive that other programs open",
    "text": "plain text already",
    "picture": "a picture",
    "sqlite": "an SQLite database",
}


def _content_chain(kinds: list[str]) -> Chain:
    steps: list[LayerSpec] = [tagged(CompressedSpec, kind)() for kind in kinds]
    return compile_layers({"it": steps}, {})["it"]


def opened_as(path: Path, recipes: Recipes, how: str) -> Opened:
    """Open a container in a way that is known."""
    kind, _, name = how.partition(":")
    files = FolderFiles(path if path.is_dir() else path.parent)
    file = None if path.is_dir() else path.name
    if kind == "box":
        known_boxes = [ident for ident, _ in recipes.boxes()]
        if name not in known_boxes:
            raise UnknownNameError(
                f"There is no box recipe {name!r} that can be used.",
                details=(f"There are: {', '.join(known_boxes)}.",),
            )
        return _with_box(how, files, file, recipes.box(name)[1])
    if file is None:
        raise UnsupportedError(f"{path} is a folder, and layers are for files.")
    if kind == "layers":
        game, _, layer = name.partition(":")
        layers = recipes.game(game).layers
        if layer not in layers:
            known = ", ".join(sorted(layers)) or "none"
            raise UnknownNameError(
                f"The recipe {game} has no layer {layer!r}.", details=(f"There are: {known}.",)
            )
        chain = layers[layer]
    elif name in ("zip", "tar"):
        spec = tagged(ArchiveSpec, name)(file=file)
        return _with_box(how, files, file, ArchiveBox(spec))
    else:
        chain = _content_chain(name.split("+"))
    return Opened(how, files, file, chain=chain, unwrapped=chain.unwrap(files.payload(file)))


def _with_box(how: str, files: FolderFiles, file: str | None, box: Box) -> Opened:
    if isinstance(box, ArchiveBox | TableBox) and file is not None:
        spec = replace(box.spec, file=file)
        box = TableBox(spec) if isinstance(spec, TableSpec) else ArchiveBox(spec)
    return Opened(how, files, file, box=box, contents=box.read(files, lambda _: True))


def _by_fitting_box(path: Path, recipes: Recipes) -> Opened:
    found: list[Opened] = []
    troubles: list[str] = []
    for ident, box in recipes.boxes():
        try:
            found.append(_with_box(f"box:{ident}", FolderFiles(path), None, box))
        except FerryError as error:
            troubles.append(f"  {ident}: {error.what}")
    if len(found) == 1:
        return found[0]
    if found:
        names = ", ".join(one.how.partition(":")[2] for one in found)
        raise ChoiceNeededError(
            f"Several boxes fit {path}: {names}.", advice="Say which one with --as."
        )
    raise UnsupportedError(
        f"No known box fits {path}.",
        details=tuple(troubles),
        advice="If you have a recipe for it, name it with --as.",
    )
