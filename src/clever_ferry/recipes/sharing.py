"""Recipes from others and for others: what one may touch, and what would give somebody away."""

from __future__ import annotations

import re
import tomllib
import zipfile
from collections.abc import Iterator, Sequence
from pathlib import Path, PurePosixPath

from clever_ferry.errors import DamagedError, NotFoundError, RecipeError, WrongUseError
from clever_ferry.recipes.loader_models import LoaderInfo
from clever_ferry.recipes.loading import AnyRecipe
from clever_ferry.recipes.models import GameRecipe, LibraryRecipe

__all__ = ["private_in", "taken_from", "touches", "without_evidence"]

_LARGEST, _MOST_MEMBERS = 1 << 20, 1_000
_EVIDENCE = re.compile(r"seen|shows it|In doubt|--try|\||[/\\]|\d{4}|\.\w{2,4}\b")
"""What stands in remarks that tell of somebody's own saves: values, names, places."""


def taken_from(path: Path) -> tuple[str, str]:
    """Return the name and text of the recipe that a file is, or the only one in a zip.

    Raises NotFoundError, WrongUseError or DamagedError where there is none, or several.
    """
    if not path.is_file():
        raise NotFoundError(f"There is no file {path}.")
    if not zipfile.is_zipfile(path):
        if path.stat().st_size > _LARGEST:
            raise WrongUseError(f"{path} is too large for a recipe.")
        return path.name, _decoded(path.read_bytes(), str(path))
    try:
        with zipfile.ZipFile(path) as archive:
            members = archive.infolist()[:_MOST_MEMBERS]
            found = [one for one in members if PurePosixPath(one.filename).suffix == ".toml"]
            if len(found) != 1:
                many = "several recipes" if found else "no recipe"
                raise WrongUseError(f"There is {many} in {path}.", advice="Name one .toml file.")
            if found[0].file_size > _LARGEST:
                raise WrongUseError(f"{found[0].filename} in {path} is too large for a recipe.")
            with archive.open(found[0]) as file:
                raw = file.read(_LARGEST + 1)
    except (zipfile.BadZipFile, RuntimeError, NotImplementedError, EOFError, ValueError) as error:
        raise DamagedError(f"{path} can't be read: {error}.") from None
    return PurePosixPath(found[0].filename).name, _decoded(raw[:_LARGEST], str(path))


def _decoded(raw: bytes, place: str) -> str:
    try:
        return raw.decode()
    except UnicodeDecodeError:
        raise RecipeError(f"The recipe in {place} is no UTF-8 text.") from None


def touches(recipe: AnyRecipe) -> list[str]:
    """Return what a recipe lets the tool look at, write, take away and start, as sentences."""
    if isinstance(recipe, GameRecipe):
        return list(dict.fromkeys(_of_game(recipe)))
    if isinstance(recipe, LibraryRecipe):
        return ["It says where a game library lies; nothing is written there."]
    return ["It describes how something is built, and names no place and no program."]


def _of_game(recipe: GameRecipe) -> Iterator[str]:
    for edition in recipe.editions.values():
        for berth in edition.berths:
            below = f"the {berth.under} folder" if berth.under != "given" else "a folder you name"
            path = f": {berth.path}" if berth.path else ""
            yield f"{edition.title}: saves are looked for, and written, below {below}{path}."
        if edition.rebuilt:
            files = ", ".join(edition.rebuilt)
            yield f"{edition.title}: a crossing takes away {files} (it is backed up first)."
        for config in edition.config:
            yield f"{edition.title}: a crossing changes {config.file}, so that it names the save."
        if isinstance(edition.loader, LoaderInfo):  # else it is that of another of its editions
            programs = ", ".join(edition.loader.program)
            yield (
                f"{edition.title}: it can start {programs} to have a save loaded; not before you "
                "have allowed it (cferry loader allow)."
            )


# Going to others ------------------------------------------------------------------------------


def without_evidence(text: str) -> str:
    """Return a recipe's text without remarks that tell of somebody's own saves.

    Raises RecipeError where the recipe would not be the same without them.
    """
    found: list[str] = []
    inside = ""
    for line in text.splitlines():
        at, inside = _remark_at(line, inside)
        if at >= 0 and _EVIDENCE.search(line[at:]):
            line = line[:at].rstrip()
            if not line:
                continue
        found.append(line)
    made = "\n".join(found) + "\n"
    if tomllib.loads(made) != tomllib.loads(text):
        raise RecipeError("The remarks of this recipe can't be told from what it says.")
    return made


def _remark_at(line: str, inside: str) -> tuple[int, str]:
    """Return where a line's remark begins, -1 for none; and the marks of a text that goes on."""
    at = 0
    while at < len(line):
        if inside:
            if inside[0] == '"' and line[at] == "\\":
                at += 2
                continue
            if line.startswith(inside, at):
                at += len(inside)
                inside = ""
                continue
        elif line[at] == "#":
            return at, ""
        elif line[at] in "\"'":
            triple = line[at] * 3
            inside = triple if line.startswith(triple, at) else line[at]
            at += len(inside)
            continue
        at += 1
    return -1, inside if len(inside) == 3 else ""


def private_in(text: str, words: Sequence[str]) -> list[str]:
    """Return the lines of a recipe in which words stand that are somebody's own, and which."""
    found: list[str] = []
    for word in dict.fromkeys(one.lower() for one in words):
        whole = re.compile(rf"(?<![A-Za-z0-9]){re.escape(word)}(?![A-Za-z0-9])", re.IGNORECASE)
        for number, line in enumerate(text.splitlines(), 1):
            if (match := whole.search(line)) is not None:
                found.append(f"line {number}: {match[0]}")
    return found
