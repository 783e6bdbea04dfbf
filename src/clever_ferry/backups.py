"""Backups as jobs: listed, verified, exported, pruned, restored. `Ferry.backups` has them."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from contextlib import suppress
from pathlib import Path
from typing import NamedTuple

from msgspec.structs import replace

from clever_ferry.crossing.guarding import at_work
from clever_ferry.crossing.plan import Plan
from clever_ferry.crossing.planning import make_plan
from clever_ferry.crossing.progress import Progress, silent
from clever_ferry.crossing.restoring import (
    Restored,
    Restoring,
    extract,
    plan_restore,
    refuse_damaged,
    restore,
)
from clever_ferry.errors import FerryError, NotFoundError, RefusedError, UnknownNameError
from clever_ferry.finding import (
    Berth,
    Computer,
    berth_at,
    find_berths,
    open_berth,
    parse_address,
)
from clever_ferry.finding.addresses import parse_slots
from clever_ferry.finding.berths import OpenBerth
from clever_ferry.finding.harbours import boarded, server_at
from clever_ferry.finding.searching import is_place_of
from clever_ferry.finding.signs import signs_of
from clever_ferry.keeping.bagging import export_bag
from clever_ferry.keeping.keeps import Keeps
from clever_ferry.keeping.pruning import Pruning, Rules, plan_pruning, prune
from clever_ferry.keeping.reading import SnapshotFiles
from clever_ferry.keeping.snapshots import Kept, Snapshot, kept_save
from clever_ferry.keeping.verifying import Verified, verify
from clever_ferry.recipes import Recipes

__all__ = ["Backups", "Extracted", "ListedBackups"]


class ListedBackups(NamedTuple):
    """Backups in short, the newest first."""

    backups: list[Kept]
    total: int
    """How many there are in all."""
    unread: list[str]
    """What is wrong with those that can't be read."""


class Extracted(NamedTuple):
    """Files of a backup that were written elsewhere."""

    paths: list[str]
    unkept: list[str]
    """Attributes that could not be given there, in words."""


class Backups:
    """The backups in a locker, and the berths that they are from."""

    def __init__(self, computer: Computer, recipes: Recipes, keeps: Keeps) -> None:
        self._computer, self._recipes, self._keeps = computer, recipes, keeps
        self._locker = keeps.locker

    def listed(self, where: str | None = None, newest: int | None = None) -> ListedBackups:
        """Return backups in short, the newest first, at most `newest` of them.

        `where` is a game or one of its editions.
        """
        if where is None:
            return ListedBackups(*self._locker.listed(newest))
        address = parse_address(where)
        every, _, faults = self._locker.listed()
        fitting = [
            one
            for one in every
            if one.about.game == address.game and address.edition in (None, one.about.edition)
        ]
        return ListedBackups(fitting[:newest], len(fitting), faults)

    def snapshot(self, ident: str) -> Snapshot:
        """Return a backup by its id or some of it; `latest` is the newest asked for."""
        if ident == "latest":
            found = next((one for one in self._locker.listed()[0] if one.kind == "backup"), None)
            if found is None:
                raise NotFoundError(
                    "There are no backups yet that were asked for.",
                    advice="`cferry backup list` shows all, also those made before crossings.",
                )
            return self._locker.snapshot(found.id)
        return self._locker.snapshot(self._locker.snapshots.find(ident))

    def verify(
        self,
        ident: str | None = None,
        progress: Callable[[int, int], None] = lambda done, total: None,
    ) -> Verified:
        """Read every content of all backups, or of one."""
        only = None if ident is None else [self.snapshot(ident).id]
        return verify(self._locker, only, progress)

    def export(
        self, ident: str, file: Path, progress: Callable[[int], None] = lambda _: None
    ) -> list[str]:
        """Write a backup as a zipped bag; return the paths that are named otherwise in it."""
        return export_bag(self._locker, self.snapshot(ident), file, progress)

    def plan_pruning(self, rules: Rules) -> Pruning:
        """Say which backups may go, and what that frees."""
        return plan_pruning(self._locker, rules, self._needed())

    def prune(self, rules: Rules) -> Pruning:
        """Take old backups away."""
        return prune(self._locker, rules, self._needed())

    def _needed(self) -> set[str]:
        undoable = {
            one.backup for one in self._keeps.logbook.records() if one.state in ("proved", "begun")
        }
        return undoable | set(self._keeps.journal.open())

    def plan_restore(
        self, ident: str, slots: str | None = None, given: Mapping[str, str] | None = None
    ) -> Restoring | Plan:
        """Say what restoring a backup will do.

        A whole backup comes back file by file. Some of its slots, or a backup of some slots of
        a box, come back as a crossing from the backup; `given` is the key that this needs.
        """
        snapshot = self.snapshot(ident)
        partial = snapshot.about.boxed and not snapshot.about.whole
        if slots is None and not (partial and snapshot.kind in ("backup", "watched")):
            berth = self.berth_of(snapshot)
            return plan_restore(self._keeps, snapshot, self._opened(berth))
        berth = self._place_of(snapshot)
        source = self._source(snapshot, berth, given)
        if slots is None:
            own = {save.key for save in snapshot.saves}
            chosen = [save for save in source.listing.saves if kept_save(save).key in own]
        else:
            chosen = source.chosen(slots)
        refuse_damaged(self._locker, snapshot, [path for save in chosen for path in save.files])
        plan = make_plan(
            source,
            open_berth(berth, given=given),
            chosen=",".join(str(save.slot) for save in chosen),
            slots=None,
            given=given or {},
            as_it_was=True,
        )
        return replace(plan, signs=signs_of(self._computer, berth))

    def opened(self, ident: str, given: Mapping[str, str] | None = None) -> OpenBerth:
        """Return the saves of a backup, read as its edition reads them.

        Raises NotFoundError where the place that it is from, or its recipe, is not here.
        """
        snapshot = self.snapshot(ident)
        return self._source(snapshot, self._place_of(snapshot), given)

    def then(self, snapshot: Snapshot) -> OpenBerth | None:
        """Return the saves of a backup of any kind, as far as they can be read."""
        berth = self.berth_of(snapshot)
        try:
            return self._source(snapshot, berth, None, keyless=True) if berth else None
        except (FerryError, OSError):
            return None

    def _place_of(self, snapshot: Snapshot) -> Berth:
        berth = self.berth_of(snapshot)
        if berth is None:
            raise NotFoundError(
                f"The place that this backup is from is not here: {snapshot.root}",
                advice=f"`cferry restore {snapshot.id} --to FOLDER` writes its files into any "
                "folder.",
            )
        return berth

    def _source(
        self, snapshot: Snapshot, berth: Berth, given: Mapping[str, str] | None,
        *, keyless: bool = False,
    ) -> OpenBerth:  # fmt: skip
        kept = SnapshotFiles(self._locker, snapshot, fold=berth.fold)
        label = f"backup {snapshot.id}"
        return open_berth(replace(berth, files=kept, label=label), given=given, keyless=keyless)

    def berth_of(self, snapshot: Snapshot) -> Berth | None:
        """Return the berth that a backup is from, where its recipe and its folder are here."""
        try:
            game = self._recipes.game(snapshot.about.game)
        except FerryError:
            return None
        edition = game.editions.get(snapshot.about.edition)
        if edition is None:
            return None
        here = find_berths(self._computer, game, edition).berths
        own = next((berth for berth in here if berth.place == snapshot.root), None)
        with suppress(NotFoundError, OSError):
            folder = self._keeps.shores.folder(snapshot.root)
            if own is None and folder.shore.kind(folder.root) == "folder":
                owner = self._computer
                if self._keeps.shores.remote(snapshot.root) is not None:
                    owner = boarded(server_at(folder, snapshot.root)).computers[0]
                own = berth_at(owner, game, edition, folder.root, folder.shore)
        return own

    def is_known_place(self, snapshot: Snapshot) -> bool:
        """Tell whether a backup's folder is one that recipes, named harbours or the logbook know.

        Any other may come from a stranger's locker, and is to be shown and asked for.
        """
        try:
            folder = self._keeps.shores.folder(snapshot.root)
        except NotFoundError:
            return False
        root = folder.root
        with suppress(FerryError):
            game = self._recipes.game(snapshot.about.game)
            edition = game.editions.get(snapshot.about.edition)
            if edition is not None:
                here = find_berths(self._computer, game, edition).berths
                if is_place_of(self._computer, edition, root) or any(
                    berth.folder.identity == folder.identity for berth in here
                ):
                    return True
        with suppress(FerryError):
            named = [path for paths in self._keeps.harbours.all().values() for path in paths]
            places = [self._keeps.shores.folder(text) for text in named]
            if any(
                one.shore is folder.shore and (root == one.root or one.root in root.parents)
                for one in places
            ):
                return True
        with suppress(FerryError):
            roots = {one.details.target.root for one in self._keeps.logbook.records()}
            return snapshot.root in roots
        return False

    def standing(self, snapshot: Snapshot) -> OpenBerth | None:
        """Return the berth that a backup is from as it stands now, where that can be read."""
        return self._opened(self.berth_of(snapshot))

    def _opened(self, berth: Berth | None) -> OpenBerth | None:
        try:
            return open_berth(berth, keyless=True) if berth is not None else None
        except (FerryError, OSError):
            return None  # what stands there can't be read, which is why it is restored

    def restore(
        self, plan: Restoring, progress: Progress = silent, *, game_closed: bool = False
    ) -> Restored:
        """Bring a whole backup back where it was; `undo` takes that back."""
        watch = at_work(self._computer, self.berth_of(plan.snapshot), closed=game_closed)
        return restore(plan, self._keeps, watch, progress=progress)

    def extract(
        self, ident: str, folder: Path, slots: str | None = None, progress: Progress = silent
    ) -> Extracted:
        """Write a backup's files, or those of some slots, into a new folder."""
        snapshot = self.snapshot(ident)
        paths = None
        if slots is not None:
            if snapshot.about.boxed:
                raise RefusedError(
                    "This backup is of a box, whose saves do not stand in files of their own.",
                    advice="Leave --slot away, then take the box apart with `cferry unbox`.",
                )
            numbers = set(parse_slots(slots).numbers)
            chosen = [
                save
                for save in snapshot.saves
                if save.slot in numbers or save.title.casefold() == slots.casefold()
            ]
            if not chosen:
                raise UnknownNameError(f"The backup {snapshot.id} has no slot {slots}.")
            paths = [path for save in chosen for path in save.files]
        return Extracted(*extract(self._locker, snapshot, folder, paths, progress))
