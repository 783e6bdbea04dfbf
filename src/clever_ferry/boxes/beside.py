"""Files that lie beside a container and are entries by themselves."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Sequence

from clever_ferry.boxes.box import Entry, Making, Put
from clever_ferry.tree import Files, Output

__all__ = ["files_beside", "written_beside"]


def files_beside(
    files: Files, enter: Callable[[str], bool], own: Callable[[str], bool]
) -> Iterator[Entry]:
    """Yield an entry for each file but the container's `own`."""
    for info in files.walk(enter):
        if not own(info.path):
            yield Entry(
                info.path, info.size, info.stamp, files.listed(info), (info.path,), "", info.checked
            )


def written_beside(
    puts: Sequence[Put], removes: Collection[str], within: Callable[[str], bool], making: Making
) -> Iterator[Output]:
    """Yield the files that change beside a container; `within` tells what is in that."""
    for put in puts:
        if not within(put.name):
            yield Output(put.name, put.payload, put.stamp)
    for name in removes:
        if not within(name):
            yield Output(name, None, making.now, tidy=True)
