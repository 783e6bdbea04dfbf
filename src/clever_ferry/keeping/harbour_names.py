"""The user's names for folders: harbours that were added, in one small file."""

from __future__ import annotations

import re
from pathlib import Path
from typing import Annotated, Any

from msgspec import Meta, Struct

from clever_ferry.errors import DamagedError, UnknownNameError, WrongUseError
from clever_ferry.keeping.records import Format
from clever_ferry.moving.disk import read_whole
from clever_ferry.moving.local import LOCAL, LocalShore

__all__ = ["HarbourNames"]

_NAME = re.compile(r"[a-z][a-z0-9-]{0,39}")
_MOST = 16 << 20


class _Named(Struct, forbid_unknown_fields=True):
    names: dict[str, Annotated[list[str], Meta(min_length=1)]]


def _below_names(data: dict[str, Any]) -> dict[str, Any]:
    return {"names": data}


_FORMAT = Format("harbours", _Named, oldest=0, steps=(_below_names,))


class HarbourNames(Struct, frozen=True):
    """Names and the folders or files that they stand for."""

    file: Path
    shore: LocalShore = LOCAL

    def all(self) -> dict[str, tuple[str, ...]]:
        """Return all, by name: whole paths, or the address of a server.

        Raises DamagedError where the file can't be read.
        """
        try:
            named = _FORMAT.read(read_whole(self.file, _MOST)).names
            return {name: tuple(paths) for name, paths in sorted(named.items())}
        except FileNotFoundError:
            return {}
        except (OSError, ValueError) as error:
            raise DamagedError(
                f"The list of harbours {self.file} can't be read: {error}.",
                advice="Remove the file, then add your harbours again.",
            ) from None

    def add(self, name: str, paths: tuple[str, ...]) -> None:
        """Give a folder or files a name; raises WrongUseError where it is none, or is taken."""
        self.refuse_name(name, paths)
        self._write({**self.all(), name: paths})

    def refuse_name(self, name: str, paths: tuple[str, ...]) -> None:
        """Raise WrongUseError where a name is none, or stands for something else."""
        if not _NAME.fullmatch(name):
            raise WrongUseError(
                f"{name!r} can't be a harbour's name.",
                advice="A name has small letters, digits and hyphens, such as old-disk.",
            )
        known = self.all()
        if known.get(name, paths) != paths:
            raise WrongUseError(
                f"The harbour {name!r} is {known[name][0]} already.",
                advice=f"Choose another name, or say `cferry harbour remove {name}` first.",
            )

    def remove(self, name: str) -> tuple[str, ...]:
        """Forget a name (nothing is removed but that); raises UnknownNameError."""
        known = self.all()
        if name not in known:
            told = ", ".join(known) or "none"
            raise UnknownNameError(
                f"There is no harbour {name!r}.", details=(f"There are: {told}.",)
            )
        paths = known.pop(name)
        self._write(known)
        return paths

    def _write(self, names: dict[str, tuple[str, ...]]) -> None:
        self.shore.make_folder(self.file.parent)
        named = _Named({name: list(paths) for name, paths in names.items()})
        self.shore.write_synced(self.file, _FORMAT.written(named))
