"""Asking the game itself whether a save loads: by its own program, on a copy, if allowed."""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Mapping, Sequence
from contextlib import suppress
from pathlib import Path
from tempfile import TemporaryDirectory

from msgspec import Struct
from msgspec.structs import replace

from clever_ferry.cargo import Save, new_digest
from clever_ferry.checking import Checked, check
from clever_ferry.errors import FerryError, RefusedError, WrongUseError
from clever_ferry.finding import Berth, open_berth, parse_address
from clever_ferry.finding.berths import OpenBerth
from clever_ferry.judging.programs import bare_environment, find_program, sandbox
from clever_ferry.judging.running import Limits, Prompt, Ran, run
from clever_ferry.judging.scratch import below, lay_out
from clever_ferry.judging.verdict import Enough, Verdict, judge
from clever_ferry.keeping.keeps import Keeps
from clever_ferry.keeping.loaders import Allowed
from clever_ferry.places import Places
from clever_ferry.recipes import Edition, Game, Recipes
from clever_ferry.recipes.loader_models import LoaderInfo, filled

__all__ = ["Asking", "Starter"]

Tell = Callable[[int, int], None]
_NOT_ASKED = "it was not asked: the save is damaged or not whole"


class Starter(Struct, frozen=True):
    """What would be started to ask an edition's game, and whether it may be."""

    edition: str
    """`GAME/EDITION`."""
    title: str
    program: Path | None
    """None where it is not on this computer."""
    names: tuple[str, ...]
    """What it is called."""
    arguments: tuple[str, ...]
    """As the recipe has them, with braces for what each save fills in."""
    environment: dict[str, str]
    allowed: bool
    changed: bool = False
    """Whether it was allowed once, and the recipe or the program is another now."""
    named: bool = False
    """Whether the user has named the program."""
    shut_in: bool = False
    """Whether it can write nowhere but to the scratch folder, and reaches no network."""
    why_not: str = ""
    """Why not, where it is not shut in."""
    usual: Path | None = None
    """The program that is found by its names."""

    @property
    def command(self) -> tuple[str, ...]:
        """The command line, argument by argument."""
        return (str(self.program or self.names[0]), *self.arguments)


class Asking:
    """The games' own programs, and the user's word on them."""

    def __init__(self, recipes: Recipes, places: Places, keeps: Keeps) -> None:
        self._recipes, self._places, self._keeps = recipes, places, keeps

    def all(self) -> list[Starter]:
        """Return what could be started, of every edition whose recipe says how."""
        return [
            self._starter(game, edition)
            for game in self._recipes.games()[0]
            for edition in game.editions.values()
            if edition.loader is not None
        ]

    def starter(self, where: str) -> Starter:
        """Return what would be started for an edition; raises RefusedError where nothing can be."""
        game, edition = self._places.game_and_edition(parse_address(where))
        return self._starter(game, edition)

    def _starter(self, game: Game, edition: Edition) -> Starter:
        loader = _loader(game, edition)
        name = f"{game.id}/{edition.id}"
        word = self._keeps.loaders.all().get(name)
        usual = program = find_program(loader.program)
        named = word is not None and word.named
        if word is not None and word.program is not None and (named or program is None):
            program = Path(word.program)
        allowed = word is not None and word.digest == self._digest(game)
        if word is not None and program is not None and str(program) != word.program:
            allowed = False  # another program of that name is not what the user has seen
        shut_in, why_not = sandbox()
        return Starter(
            name, edition.title, program if program is None or program.exists() else None,
            loader.program, loader.arguments, dict(loader.environment), allowed,
            word is not None and not allowed, named, bool(shut_in), why_not,
            usual,
        )  # fmt: skip

    def allow(self, where: str, program: Path | None = None) -> Starter:
        """Keep the user's yes to what a recipe starts, and which program that is."""
        if program is not None and not (program.is_file() and os.access(program, os.X_OK)):
            raise WrongUseError(f"{program} is no program that can be started.")
        found = self.starter(where)
        game = self._recipes.game(found.edition.partition("/")[0])
        meant = program.resolve() if program is not None else found.usual
        word = Allowed(
            self._digest(game), time.time_ns(), str(meant) if meant else None, program is not None
        )
        self._keeps.loaders.allow(found.edition, word)
        return self.starter(where)

    def forget(self, where: str) -> bool:
        """Take that back; tell whether there was anything to take back."""
        address = parse_address(where)
        return self._keeps.loaders.forget(f"{address.game}/{address.edition}")

    def check(
        self,
        where: str,
        account: str | None = None,
        given: Mapping[str, str] | None = None,
        tell: Tell = lambda done, total: None,
    ) -> tuple[Checked, list[Verdict]]:
        """Check saves as `Ferry.check` does, then have their own game load each that is whole.

        `tell` is called with how many it has been asked about, and how many there are.
        Raises RefusedError before anything is read where the game may not be started.
        """
        address = parse_address(where)
        berth = self._places.berth(address, account)
        self._refuse(self.of(berth))
        if berth.writable:
            self._keeps.refuse_half(berth.folder)
        opened = open_berth(berth, given=given)
        checked = check(opened, address.slots)
        return checked, self.ask(opened, checked.saves, tell)

    def require(self, where: str) -> None:
        """Raise RefusedError where an edition's game may not be started."""
        self._refuse(self.starter(where))

    def ask_there(
        self,
        berth: Berth,
        saves: Sequence[Save],
        given: Mapping[str, str] | None = None,
        tell: Tell = lambda done, total: None,
    ) -> list[Verdict]:
        """Have a berth's own game load what these saves are there now; as `ask` does."""
        opened = open_berth(berth, given=given)
        now = [
            next((one for one in opened.listing.saves if one.fields == save.fields), save)
            for save in saves
        ]
        return self.ask(opened, now, tell)

    def note(self, number: int, verdicts: Sequence[Verdict]) -> None:
        """Write down what the game has said of a crossing's saves, for saying so later."""
        loads = all(one.loads for one in verdicts)
        with suppress(FerryError, OSError):
            self._keeps.logbook.saw(number, time.time_ns(), loads=loads)

    def of(self, berth: Berth) -> Starter:
        """Return what would be started for a berth; raises as `starter` does."""
        return self._starter(berth.game, berth.edition)

    def ask(
        self, opened: OpenBerth, saves: Sequence[Save], tell: Tell = lambda done, total: None
    ) -> list[Verdict]:
        """Have a berth's own game load saves, each on a copy; raises RefusedError without a yes."""
        berth = opened.berth
        loader = _loader(berth.game, berth.edition)
        starter = self.of(berth)
        self._refuse(starter)
        if starter.program is None:
            what = f"{' or '.join(starter.names)} is not on this computer"
            return [Verdict("missing", what) for _ in saves]
        verdicts = []
        for number, save in enumerate(saves):
            tell(number, len(saves))
            verdicts.append(_asked(opened, save, loader, starter))
        return verdicts

    @staticmethod
    def _refuse(starter: Starter) -> None:
        if not starter.allowed:
            again = " again, as its recipe or the program is another now" if starter.changed else ""
            raise RefusedError(
                f"{starter.title} is started only when you have said so{again}.",
                details=("It would be:", f"  {' '.join(starter.command)}"),
                advice=f"If that is right: cferry loader allow {starter.edition}",
            )

    def _digest(self, game: Game) -> str:
        running = new_digest()
        running.update(self._recipes.source(game.id).text().encode())
        return running.hexdigest()


def _loader(game: Game, edition: Edition) -> LoaderInfo:
    if edition.loader is None:
        others = [f"{game.id}/{one.id}" for one in game.editions.values() if one.loader is not None]
        raise RefusedError(
            f"The recipe does not say how {edition.title} loads a save without a screen.",
            advice=f"It does for {', '.join(others)}." if others else "Start it and look yourself.",
        )
    return edition.loader


def _asked(opened: OpenBerth, save: Save, loader: LoaderInfo, starter: Starter) -> Verdict:
    if save.problems:
        return Verdict("not asked", _NOT_ASKED)
    try:
        with TemporaryDirectory(prefix="cferry-try-", ignore_cleanup_errors=True) as folder:
            command, ran = _run(opened, save, loader, starter, Path(folder).resolve())
    except (FerryError, OSError) as error:
        told = error.what if isinstance(error, FerryError) else f"{error.strerror or error}."
        return Verdict("not asked", f"it could not be asked: {told.rstrip('.')}")
    found = judge(loader, ran, save.facts)
    return replace(found, command=command, shut_in=starter.shut_in, seconds=round(ran.seconds, 1))


def _run(
    opened: OpenBerth, save: Save, loader: LoaderInfo, starter: Starter, scratch: Path
) -> tuple[tuple[str, ...], Ran]:
    values = lay_out(opened, save, loader, scratch)
    arguments = [filled(one, values) for one in loader.arguments]
    for text, made in zip(loader.arguments, arguments, strict=True):
        if made.startswith("-") and not text.startswith("-"):
            raise RefusedError(f"{made!r} would be an option to it.")
    own = {name: filled(text, values) for name, text in loader.environment.items()}
    command = (str(starter.program), *arguments)
    ran = run(
        command, bare_environment(scratch, own), scratch,
        Limits(loader.seconds, loader.mebibytes << 20),
        prompts=[
            Prompt(one.after or "", one.wait, tuple(filled(line, values) for line in one.lines))
            for one in loader.input
        ],
        logs=[below(scratch, filled(path, values)) for path in loader.reads],
        terminal=loader.terminal,
        enough=Enough(loader),
    )  # fmt: skip
    return command, ran
