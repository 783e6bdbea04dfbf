"""What a berth's game has at hand: which add-ons, and of which version it is itself."""

from __future__ import annotations

from contextlib import suppress

from clever_ferry.errors import FerryError
from clever_ferry.finding.berths import Berth
from clever_ferry.finding.grounds import DiskGround
from clever_ferry.finding.searching import folders_fitting
from clever_ferry.moving.files import FolderFiles
from clever_ferry.moving.names import folded
from clever_ferry.payload import head

__all__ = ["installed_packs", "installed_version"]

_LONGEST_SIGN = 1 << 16


def installed_packs(berth: Berth) -> set[str] | None:
    """Return the names, in lower case, of the add-ons that are there.

    None where the edition's recipe, or the place, does not let that be told.
    """
    packs = berth.edition.packs
    if packs is None or not isinstance(berth.files, FolderFiles):
        return None
    base, shore = berth.root, berth.files.shore
    if packs.info.under is not None:
        known = berth.computer.folders.get(packs.info.under) if berth.computer else None
        if known is None:
            return None
        base = known
    ground, segments = DiskGround(base, berth.fold, shore=shore), packs.pattern.segments
    found = [fields for _, fields in folders_fitting(ground, segments)]
    for folder, above in folders_fitting(ground, segments[:-1]):
        with suppress(FerryError, OSError):
            for file in ground.files(folder).walk(lambda _: False):
                own = segments[-1].match(file.path, fold=berth.fold)
                if isinstance(own, dict):
                    found.append({**above, **own})
    return {folded(str(fields[packs.info.field])) for fields in found}


def installed_version(berth: Berth) -> str | None:
    """Return the version that a berth's game says it is of, where its recipe says how."""
    installed = berth.edition.installed
    info = berth.files.info(installed.file) if installed is not None else None
    if installed is None or info is None:
        return None
    return installed.version_in(
        head(berth.files.payload(info.path), _LONGEST_SIGN).decode("utf-8", "replace")
    )
