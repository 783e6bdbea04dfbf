"""The command of this run once more, with other options: the ready next step."""

from __future__ import annotations

import os
import shlex
import subprocess
import sys
from collections.abc import Sequence

__all__ = ["after_dry_run", "command_again"]

_HIDDEN = "--give"
"""The option whose values may be keys."""


def command_again(*, add: Sequence[str] = (), drop: Sequence[str] = ()) -> str:
    """Return the line that runs this command again, quoted for the user's shell.

    Values that were stated are left out of it, and asked for then: they may be keys.
    """
    words = [word for word in sys.argv[1:] if word not in drop]
    for at, word in enumerate(words):
        if word.startswith(f"{_HIDDEN}="):
            words[at] = "=".join(word.split("=")[:2])
        elif at and words[at - 1] == _HIDDEN:
            words[at] = word.partition("=")[0]
    words = ["cferry", *words, *(word for word in add if word not in words)]
    return subprocess.list2cmdline(words) if os.name == "nt" else shlex.join(words)


def after_dry_run(*add: str) -> str:
    """Return what ends a dry run: that nothing was changed, and the line that does it."""
    line = command_again(add=add, drop=["--dry-run"])
    return f"This was a dry run: nothing was changed.\nTo carry it out: {line}"
