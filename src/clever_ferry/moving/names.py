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

    `taken` holds the names given so far in folded case, and gets this one too.

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
    found, number = "/".join(parts), 1
    while folded(found) in taken:
        number += 1
        found = "/".join(parts) + f"~{number}"
    taken.add(folded(found))
    return found
