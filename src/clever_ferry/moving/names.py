"""Which file names a system allows, whatever system the tool itself runs on.

Source of the Windows rules: Microsoft's "Naming Files, Paths, and Namespaces".
"""

from __future__ import annotations

import unicodedata
from typing import Literal

from clever_ferry.errors import RefusedError

__all__ = ["System", "folded", "refuse_forbidden", "safe_name"]

System = Literal["windows", "linux", "macos"]

_DEVICES = frozenset(
    ["con", "prn", "aux", "nul", "conin$", "conout$"]
    + [f"{port}{number}" for port in ("com", "lpt") for number in "0123456789¹²³"]
)
_WINDOWS_CHARS = frozenset('<>:"|?*\\') | {chr(code) for code in range(32)}
_MOST_PARTS, _LONGEST_WHOLE = 60, 1_500
"""Folders and characters beyond which a name is told short, as no system holds it in a folder."""
_LONGEST = 255
_LONGEST_PATH = 259
"""Windows' MAX_PATH, but for the zero that ends it."""


def folded(name: str) -> str:
    """Return what names have in common that Windows and macOS take for the same one."""
    return unicodedata.normalize("NFC", unicodedata.normalize("NFC", name).casefold())


def refuse_forbidden(path: str, system: System, above: int = 0) -> None:
    """Raise RefusedError where a relative path (with `/`) can't or must not be a file's name.

    `above` is the length of the folder's own path, as its system spells it.
    """
    reason = next(filter(None, (_reason(part, system) for part in path.split("/"))), None)
    if reason is None and system == "windows" and above + 1 + len(path) > _LONGEST_PATH:
        reason = (
            f"with its folder it has {above + 1 + len(path)} characters, and games on "
            f"Windows can't open a path of more than {_LONGEST_PATH}"
        )
    if reason:
        raise RefusedError(
            f"The name {path!r} can't be used on this target: {reason}.",
            advice="Rename the save in its own game first, then try again.",
        )


def _reason(part: str, system: System) -> str | None:
    if part in ("", ".", "..") or "\0" in part:
        return "it would leave its folder"
    if len(part.encode("utf-8", "surrogateescape")) > _LONGEST:
        return f"it has more than {_LONGEST} bytes"
    if system != "windows":
        return None
    if bad := sorted(_WINDOWS_CHARS.intersection(part)):
        return f"Windows does not allow {bad[0]!r}"
    if part[-1] in " .":
        return "on Windows, a name can't end in a space or a dot"
    stem = part.split(".")[0].rstrip(" ").lower()
    if stem in _DEVICES:
        return f"{stem!r} is the name of a device on Windows"
    return None


def safe_name(name: str, taken: set[str]) -> str:
    """Return a relative path for any name: within its folder, and allowed on every system.

    `taken` holds the names given so far in folded case, and gets this one too; folders above them
    end in `/` there, as none can be a file.

    >>> safe_name("../C:\\\\aux", set()), safe_name("a/b.txt", set())
    ('_/C_/_aux', 'a/b.txt')
    """
    parts = []
    for part in name.replace("\\", "/").split("/"):
        kept = "".join("_" if char in _WINDOWS_CHARS or char == "\x7f" else char for char in part)
        kept = kept.rstrip(" .") or "_"
        if _reason(kept, "windows"):  # a device's name, or too long
            kept = "_" + kept.encode("utf-8", "surrogateescape")[:200].decode("utf-8", "ignore")
        parts.append(kept)
    if len(parts) > _MOST_PARTS or sum(map(len, parts)) > _LONGEST_WHOLE:
        import hashlib  # takes its time, and few names are so

        digest = hashlib.blake2b(name.encode("utf-8", "surrogateescape"), digest_size=6).hexdigest()
        parts = [*(part[:40] for part in parts[:4]), f"{digest}-{parts[-1][-40:]}"]
    number, own = 1, list(parts)
    while _clashes(own, taken):
        number += 1
        own = [*parts[:-1], f"{parts[-1]}~{number}"]
        if any("/".join(folded(one) for one in parts[:depth]) in taken
               for depth in range(1, len(parts))):  # fmt: skip
            own = [f"{parts[0]}~{number}", *parts[1:]]
    folds = [folded(part) for part in own]
    taken.add("/".join(folds))
    taken.update("/".join(folds[:depth]) + "/" for depth in range(1, len(folds)))
    return "/".join(own)


def _clashes(parts: list[str], taken: set[str]) -> bool:
    """Tell whether a name is given, is a folder's, or lies below what is a file."""
    folds = [folded(part) for part in parts]
    return f"{'/'.join(folds)}/" in taken or any(
        "/".join(folds[:depth]) in taken for depth in range(1, len(folds) + 1)
    )
