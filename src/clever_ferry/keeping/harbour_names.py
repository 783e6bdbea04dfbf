"""The user's names for folders: harbours that were added, in one small file."""

from __future__ import annotations

import json
import re
from dataclasses import dataclass
from pathlib import Path

from clever_ferry.errors import DamagedError, UnknownNameError, WrongUseError
from clever_ferry.moving import disk

__all__ = ["HarbourNames"]

_NAME = re.compile(r"[a-z][a-z0-9-]{0,39}")


@dataclass(frozen=True)
class HarbourNames:
    """Names and the folders that they stand for."""

    file: Path

    def all(self) -> dict[str, Path]:
        """Return all, by name; raises DamagedError where the file can't be read."""
        try:
            data = json.loads(self.file.read_bytes())
            return {str(name): Path(str(path)) for name, path in sorted(data.items())}
        except FileNotFoundError:
            return {}
        except (OSError, ValueError, AttributeError, RecursionError) as error:
            raise DamagedError(
                f"The list of harbours {self.file} can't be read: {error}.",
                advice="Remove the file, then add your harbours again.",
            ) from None

    def add(self, name: str, path: Path) -> None:
        """Give a folder a name; raises WrongUseError where it is none, or is taken."""
        if not _NAME.fullmatch(name):
            raise WrongUseError(
                f"{name!r} can't be a harbour's name.",
                advice="A name has small letters, digits and hyphens, such as old-disk.",
            )
        known = self.all()
        if known.get(name, path) != path:
            raise WrongUseError(
                f"The harbour {name!r} is {known[name]} already.",
                advice=f"Choose another name, or say `cferry harbour remove {name}` first.",
            )
        self._write({**known, name: path})

    def remove(self, name: str) -> Path:
        """Forget a name (nothing is removed but that); raises UnknownNameError."""
        known = self.all()
        if name not in known:
            told = ", ".join(known) or "none"
            raise UnknownNameError(
                f"There is no harbour {name!r}.", details=(f"There are: {told}.",)
            )
        path = known.pop(name)
        self._write(known)
        return path

    def _write(self, names: dict[str, Path]) -> None:
        disk.make_folder(self.file.parent)
        data = {name: str(path) for name, path in names.items()}
        disk.write_synced(self.file, json.dumps(data, indent=1).encode())
