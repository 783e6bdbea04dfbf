"""The command of this run once more, with other options: the ready next step."""

from __future__ import annotations

import os
import shlex
import subprocess
import sys
from collections.abc import Sequence

__all__ = ["after_dry_run", "command_again"]

_HIDDEN = "--give"
"""Its values may be keys, which are not to be shown again."""


def command_again(*, add: Sequence[str] = (), drop: Sequence[str] = ()) -> str:
    """Return the line that runs this command again, quoted for the user's shell.

    '' where it held what must not be shown.
    """
    words = [word for word in sys.argv[1:] if word not in drop]
    if any(word.startswith(_HIDDEN) for word in words):
        return ""
    words = ["cferry", *words, *(word for word in add if word not in words)]
    return subprocess.list2cmdline(words) if os.name == "nt" else shlex.join(words)


def after_dry_run(*add: str) -> str:
    """Return what ends a dry run: that nothing was changed, and the line that does it."""
    line = command_again(add=add, drop=["--dry-run"])
    told = "This was a dry run: nothing was changed."
    return f"{told}\nTo carry it out: {line}" if line else told
