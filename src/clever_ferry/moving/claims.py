"""Claims: by which a change of a folder that other computers reach, too, keeps them from it.

A claim is a folder beside the saves, as making one is the one step in which of two computers only
one can succeed. Whose it is stands in a file in it. It goes when the change is done for good; a
change that is cut short keeps it, until its computer has set that right.
"""

from __future__ import annotations

import getpass
import hashlib
import json
import platform
import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from pathlib import Path, PurePath

from msgspec import Struct

from clever_ferry.errors import RefusedError
from clever_ferry.moving.shore import Shore

__all__ = ["CLAIM", "Claim", "claim", "claim_of", "here", "home_of", "release"]

CLAIM = ".cferry-claim"
_OWNER = ".json"
_MOST = 4_096


class Claim(Struct, frozen=True):
    """Who has a folder, as far as that can be read."""

    token: str = ""
    """The change."""
    home: str = ""
    """Stands for the records of which computer and user it is in."""
    who: str = "a computer that does not say"
    doing: str = "something"
    since: int = 0
    """By the folder's own clock, ns since 1970; 0 where it does not say."""

    def told(self, now: int) -> str:
        """Return it in words."""
        minutes = (now - self.since) // (60 * 10**9)
        age = f"{minutes} min" if minutes < 120 else f"{minutes // 60} h"
        ago = f", for {age}" if self.since and minutes > 0 else ""
        return f"{self.who}: {self.doing}{ago}"


def here() -> str:
    """Return who is at work on this computer, in words."""
    return f"{_user()} on {platform.node() or 'a computer'}"


def home_of(keeps: Path) -> str:
    """Return what stands for the records in a folder of this computer."""
    return hashlib.blake2b(f"{platform.node()}\0{keeps}".encode(), digest_size=8).hexdigest()


def claim(
    shore: Shore, folder: PurePath, own: Claim, dead: Callable[[str], bool] = lambda token: False
) -> None:
    """Claim a folder; raises RefusedError where another has it.

    A claim of the same records whose change is `dead` is taken over. The folder's time stays.
    """
    place = folder / CLAIM
    with _stamp_kept(shore, folder):
        for _ in range(2):
            try:
                shore.make_folder(place, new=True)
            except FileExistsError:
                there = claim_of(shore, folder)
                if there is None or there.token == own.token:  # gone by now, or made after all
                    continue
                if there.home != own.home or not dead(there.token):
                    raise _taken(folder, there.told(shore.now())) from None
                _remove(shore, place)
                continue
            _write(shore, place / f"{own.token}{_OWNER}", own)
            return
        there = claim_of(shore, folder)
        if there is None or there.token != own.token:
            raise _taken(folder, there.told(shore.now()) if there is not None else "another")


def _taken(folder: PurePath, told: str) -> RefusedError:
    return RefusedError(
        f"Another computer is at work in {folder}, or was cut short there.",
        details=(f"  {told}",),
        advice="Wait until it is done. If it was cut short, run any cferry command on it: that "
        "sets it right. If that can never be: cferry harbour free NAME",
    )


def _write(shore: Shore, file: PurePath, own: Claim) -> None:
    told = {"home": own.home, "who": own.who, "doing": own.doing}
    data = json.dumps(told)
    with shore.create(file) as out:
        out.write(data.encode())
        out.finish(time.time_ns())
    # What the server itself says of the folder's time is by its own clock.
    node = shore.node(file.parent)
    if node is not None and node.stamp:
        shore.learn_time(node.stamp)


def _user() -> str:
    try:
        return getpass.getuser()
    except (OSError, KeyError, ImportError):
        return "somebody"


def claim_of(shore: Shore, folder: PurePath) -> Claim | None:
    """Return who has a folder, None where nobody has."""
    place = folder / CLAIM
    node = shore.node(place)
    if node is None:
        return None
    owners = [name for name in shore.names(place) if name.endswith(_OWNER)]
    if not owners:
        return Claim(since=node.stamp)
    found: dict[str, str] = {}
    with suppress(ValueError, KeyError, TypeError):  # it was cut off: its name tells enough
        data = json.loads(shore.front(place / owners[0], _MOST)[0])
        found = {key: str(data[key])[:200] for key in ("home", "who", "doing")}
    return Claim(owners[0].removesuffix(_OWNER), **found, since=node.stamp)


def release(shore: Shore, folder: PurePath, token: str | None = None) -> None:
    """Give a folder free, if it is `token`'s; whoever has it, without one."""
    there = claim_of(shore, folder)
    if there is None or token not in (None, there.token, there.token or token):
        return
    with _stamp_kept(shore, folder):
        if there.token or token is None:
            _remove(shore, folder / CLAIM)
        else:  # ours, cut short before it had a name; if another's, that one begins anew
            shore.remove_folder(folder / CLAIM)


def _remove(shore: Shore, place: PurePath) -> None:
    with suppress(FileNotFoundError):
        for name in shore.names(place):
            shore.unlink(place / name)
        shore.remove_folder(place)


@contextmanager
def _stamp_kept(shore: Shore, folder: PurePath) -> Iterator[None]:
    """Have a folder's time be afterwards what it was before."""
    node = shore.node(folder)
    yield
    if node is not None and node.stamp:
        with suppress(OSError):
            shore.set_times(folder, node.stamp)
