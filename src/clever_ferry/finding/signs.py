"""Signs that somebody else writes a berth: its game runs, a file is open, a cloud is on."""

from __future__ import annotations

import socket
from collections.abc import Callable, Iterator
from contextlib import suppress
from dataclasses import dataclass

from clever_ferry.finding.berths import Berth
from clever_ferry.finding.computers import Computer
from clever_ferry.finding.evidence import file_saying
from clever_ferry.moving.files import FolderFiles
from clever_ferry.moving.presence import is_folder
from clever_ferry.moving.system import held_open, running_programs
from clever_ferry.recipes.parts import Cloud

__all__ = ["CloudOn", "Signs", "running_of", "signs_of"]


_WAIT = 2.0
"""Seconds for which a port is asked; one on the way to which a firewall is gives no answer."""


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
    """Programs of the game or its store that run now, and what else shows that they do."""
    opened: tuple[str, ...] = ()
    """Files of the berth that a program has open, and which."""
    clouds: tuple[CloudOn, ...] = ()
    stop: tuple[str, ...] = ()
    """How one stops what runs, in order, where the recipe says so."""

    @property
    def busy(self) -> bool:
        """Whether the game seems to be at work."""
        return bool(self.running or self.opened)


def signs_of(computer: Computer, berth: Berth) -> Signs:
    """Look for whoever may write a berth."""
    opened: tuple[str, ...] = ()
    local = berth.folder.shore.local(berth.root)
    if local is not None and is_folder(local):
        found = held_open(local)
        opened = tuple(f"{path.relative_to(local.resolve())}: {who}" for path, who in found)
    shown, running = tuple(_shown(berth)), berth.edition.running
    stop = running.info.stop if running is not None else ()
    if local is None and berth.folder.shore is not computer.shore:
        return Signs(shown, stop=stop)  # no list of processes there, nor a store's cloud
    clouds = tuple(on for cloud in berth.edition.clouds if (on := _on(computer, berth, cloud)))
    return Signs((*_running(computer, berth), *shown), opened, clouds, stop)


def _shown(berth: Berth) -> Iterator[str]:
    """Yield in words what shows, by the recipe, that a berth's game runs."""
    running = berth.edition.running
    if running is None:
        return
    if running.sign is not None:
        berth.folder.shore.now()  # nothing that was listed before counts
        says = running.info.says
        seen = file_saying(berth.files, running.sign, says, berth.fields, fold=berth.files.fold)
        if seen is not None:
            yield f"{seen} is there, as while it runs" + (f", and says {says}" if says else "")
    host, port = berth.folder.shore.capabilities.host, running.info.port
    if host and port is not None and _answers(host, port):
        yield f"something answers at {host}, port {port}, as while it runs"


def _answers(host: str, port: int) -> bool:
    with suppress(OSError), socket.create_connection((host, port), _WAIT):
        return True
    return False


def running_of(computer: Computer, berth: Berth) -> Callable[[], bool] | None:
    """Return what tells whether a berth's game or store runs; None where no recipe names it."""
    if not berth.edition.runs_as:
        return None
    return lambda: bool(_running(computer, berth))


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
    own = berth.computer or computer
    base = berth.root if info.under is None else own.folders.get(info.under)
    if base is None:
        return None
    files = FolderFiles(base, fold=berth.fold, shore=berth.folder.shore)
    seen = file_saying(files, cloud.sign, info.says, berth.fields, fold=berth.fold)
    return CloudOn(title, seen, info.answer) if seen is not None else None
