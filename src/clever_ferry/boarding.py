"""Opening a ferry: for which computer, with which records, and what was cut short set right."""

from __future__ import annotations

import os
from pathlib import Path

from clever_ferry.ferry import Ferry
from clever_ferry.finding import described_computer, this_computer
from clever_ferry.keeping.harbour_names import HarbourNames
from clever_ferry.keeping.keeps import Keeps
from clever_ferry.links.opening import Asked, Links
from clever_ferry.links.server import is_link
from clever_ferry.moving.shores import Shores
from clever_ferry.recipes import Recipes

__all__ = ["open_ferry"]


def open_ferry(computer: Path | None = None, asked: Asked | None = None) -> Ferry:
    """Return the ferry for this computer, or for a described one.

    Changes that were cut short, by a kill or a power cut, are set right first: see `recovered`.

    The environment's `CFERRY_HOME` names the folder for the tool's own data (backups,
    logbook, and `recipes/` for your own); without it, the system's usual folders serve.
    `CFERRY_LOCKER` names another folder for the backups alone. `asked` is whom to ask for
    passwords, and whether a server's key is the right one; nobody, without it.
    """
    here = described_computer(computer) if computer else this_computer()
    home = os.environ.get("CFERRY_HOME")
    if home:
        config = keeps = Path(home)
    else:
        import platformdirs

        config = platformdirs.user_config_path("cferry", appauthor=False)
        keeps = here.keeps or platformdirs.user_data_path("cferry", appauthor=False)
    locker = os.environ.get("CFERRY_LOCKER")
    names = HarbourNames(keeps / "harbours.json")
    links = Links(
        keeps / "known-servers",
        asked or Asked(),
        lambda: [text for texts in names.all().values() for text in texts if is_link(text)],
    )
    kept = Keeps(keeps, Path(locker) if locker else None, shores=Shores(remote=links))
    ferry = Ferry(here, Recipes(config / "recipes"), kept, links)
    ferry.recovered = ferry.recover()
    return ferry
