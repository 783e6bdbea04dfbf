"""Signs that somebody else writes a berth: its game runs, a file is open, a cloud is on."""

from __future__ import annotations

from dataclasses import dataclass

from clever_ferry.finding.berths import Berth
from clever_ferry.finding.computers import Computer
from clever_ferry.moving import FolderFiles
from clever_ferry.moving.system import held_open, running_programs
from clever_ferry.payload import head
from clever_ferry.recipes.edition import Cloud

__all__ = ["CloudOn", "Signs", "signs_of"]

_LARGEST_SIGN = 1 << 20


@dataclass(frozen=True)
class CloudOn:
    """A store's cloud that may put an old save back, and what to do about it."""

    title: str
    seen: str
    """The file that shows that it is on; '' where the recipe takes it to be on always."""
    answer: tuple[str, ...]


@dataclass(frozen=True)
class Signs:
    """Who else may write a berth."""

    running: tuple[str, ...] = ()
    """Programs of the game or its store that run now."""
    opened: tuple[str, ...] = ()
    """Files of the berth that a program has open, and which."""
    clouds: tuple[CloudOn, ...] = ()

    @property
    def busy(self) -> bool:
        """Whether the game seems to be at work."""
        return bool(self.running or self.opened)


def signs_of(computer: Computer, berth: Berth) -> Signs:
    """Look for whoever may write a berth."""
    opened: tuple[str, ...] = ()
    if berth.root.is_dir():
        found = held_open(berth.root)
        opened = tuple(f"{path.relative_to(berth.root.resolve())}: {who}" for path, who in found)
    clouds = tuple(on for cloud in berth.edition.clouds if (on := _on(computer, berth, cloud)))
    return Signs(_running(computer, berth), opened, clouds)


def _running(computer: Computer, berth: Berth) -> tuple[str, ...]:
    wanted = {_plain(name) for name in berth.edition.runs_as}
    if not wanted:
        return ()
    if computer.running is not None:
        return tuple(name for name in computer.running if _plain(name) in wanted)
    found = {
        number: f"{name} (process {number})"
        for name, number in running_programs()
        if _plain(name) in wanted
    }
    return tuple(found.values())


def _plain(name: str) -> str:
    return name.casefold().removesuffix(".exe")


def _on(computer: Computer, berth: Berth, cloud: Cloud) -> CloudOn | None:
    info, title = cloud.info, cloud.info.title
    if cloud.sign is None:
        return CloudOn(title, "", info.answer)
    base = berth.root if info.under is None else computer.folders.get(info.under)
    if base is None:
        return None
    files = FolderFiles(base, fold=berth.fold)
    segments = cloud.sign.segments

    def enter(folder: str) -> bool:
        parts = folder.split("/")
        return len(parts) < len(segments) and all(
            isinstance(segment.match(part, fold=berth.fold), dict)
            for segment, part in zip(segments, parts, strict=False)
        )

    for file in files.walk(enter):
        told = cloud.sign.match(file.path, fold=berth.fold)
        if isinstance(told, dict) and all(berth.fields.get(k, v) == v for k, v in told.items()):
            text = head(files.payload(file.path), _LARGEST_SIGN)
            if info.says is None or info.says.encode() in text:
                return CloudOn(title, file.path, info.answer)
    return None
