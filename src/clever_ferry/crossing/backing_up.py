"""Backing up a berth, or some of its saves, because the player asks for it."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass
from typing import TYPE_CHECKING

from msgspec.structs import replace

from clever_ferry.cargo import Save
from clever_ferry.crossing.changing import in_words, new_token, refuse_full
from clever_ferry.crossing.guarding import held
from clever_ferry.crossing.progress import Progress, Tally, silent
from clever_ferry.errors import KeyNeededError, NotFoundError, NotMadeError, RefusedError
from clever_ferry.finding.berths import OpenBerth
from clever_ferry.keeping.keeps import Keeps
from clever_ferry.keeping.locker import Reason
from clever_ferry.keeping.snapshots import Kind, Snapshot, kept_save
from clever_ferry.moving.files import FolderFiles

if TYPE_CHECKING:
    from clever_ferry.recipes.establishing import Examined

__all__ = ["BackedUp", "back_up", "files_of"]


@dataclass(frozen=True)
class BackedUp:
    """A backup that was made."""

    snapshot: Snapshot
    unchanged: int
    """How many of its files the backup before it had already, just as they are."""
    left_out: tuple[str, ...] = ()
    """What lies in the saves' own folders and was not kept, as the recipe does not know it."""
    examined: tuple[Examined, ...] = ()
    """What was established of the saves whose files are not all as the last backup has them."""


def files_of(opened: OpenBerth, saves: Sequence[Save], *, whole: bool) -> list[str]:
    """Return the files that a backup of these saves needs; a box needs its index too."""
    paths = [path for save in saves for path in save.files]
    if whole:
        paths += [path for piece in opened.listing.shared for path in piece.files]
        paths += [path for save in opened.listing.behind for path in save.files]
    if opened.berth.edition.box_title is not None:
        paths += opened.contents.files if whole else opened.contents.own
    return list(dict.fromkeys(paths))


def back_up(
    opened: OpenBerth,
    saves: Sequence[Save],
    keeps: Keeps,
    *,
    whole: bool,
    note: str = "",
    reread: bool = False,
    watched: bool = False,
    progress: Progress = silent,
    clock: Callable[[], int] = time.time_ns,
) -> BackedUp:
    """Keep these saves of a berth; `whole` where they are all, with what they share.

    Files that are just as the last backup has seen them are not read again, but where
    `reread` asks for it; what is only kept as it passes by (`watched`) is not looked into.
    Raises NotFoundError where there is nothing to keep, RefusedError where a file changes
    meanwhile, NotMadeError where the locker can't be written.
    """
    berth, made = opened.berth, clock()
    if not berth.writable:
        raise RefusedError(
            f"{berth.address} is in an archive, which is a copy already.",
            advice="Keep the archive's own files somewhere safe.",
        )
    paths = files_of(opened, saves, whole=whole)
    if not paths:
        raise NotFoundError(
            f"{berth.title} has no saves to back up.", advice=berth.edition.start or ""
        )
    folders = {""} | {
        "/".join(parts[:depth])
        for path in paths
        for parts in [path.split("/")]
        for depth in range(1, len(parts))
    }
    reason = Reason(
        new_token(made), "watched" if watched else "backup", made, note,
        replace(berth.about, whole=whole), tuple(kept_save(save) for save in saves),
    )  # fmt: skip
    what = f"backing up {berth.address}"
    with held(keeps, berth.folder, what):
        kinds: tuple[Kind, ...] = ("backup", "watched") if watched else ("backup",)
        trust = keeps.locker.latest_of(berth.place, kinds)
        known = trust.by_path() if trust is not None else {}
        fresh = sum(_size(opened, path) for path in paths if path not in known)
        refuse_full((FolderFiles(keeps.locker.folder, shore=keeps.shore), fresh))
        tally = Tally(progress, "backing up", sum(_size(opened, path) for path in paths))
        try:
            with keeps.locker.packing(what) as packing:
                snapshot = packing.keep(
                    reason, berth.folder, paths, sorted(folders),
                    trust=None if reread else trust, progress=tally,
                )  # fmt: skip
        except OSError as error:
            what = "The backup was not made"
            with suppress(OSError):
                if keeps.locker.snapshots.has(reason.id):
                    what = f"Whether the backup {reason.id} lasts is not known"
            raise NotMadeError(
                f"{what}: {in_words(error)}.",
                details=(f"Locker: {keeps.locker.folder}",),
                advice="See that the locker's disk is there and has room (`cferry backup prune` "
                "removes old backups), or name another place with CFERRY_LOCKER.",
            ) from error
    same = {f.path for f in snapshot.files if f.path in known and known[f.path].digest == f.digest}
    left = tuple(name for save in saves for name in opened.strays(save))
    changed = [save for save in saves if reread or not same.issuperset(save.files)]
    examined = _examined(opened, changed) if changed and not watched else ()
    return BackedUp(snapshot, len(same), left, examined)


def _examined(opened: OpenBerth, saves: Sequence[Save]) -> tuple[Examined, ...]:
    """Establish what can be of saves; what has no wrapping is not read once more for it."""
    from clever_ferry.recipes.establishing import Examiner  # only what changed needs it

    berth = opened.berth
    examiner = Examiner(
        berth.edition, opened.contents, opened.known, berth.files, opened.listing.saves
    )  # fmt: skip
    found = []
    for save in saves:
        with suppress(KeyNeededError):  # it is kept as it is, whatever is in it
            found.append(examiner.examine(save, "wrapped"))
    return tuple(found)


def _size(opened: OpenBerth, path: str) -> int:
    info = opened.berth.files.info(path)
    return info.size if info else 0
