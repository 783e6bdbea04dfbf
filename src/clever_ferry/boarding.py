"""Opening a ferry: for which computer, with which records, and what was cut short set right."""

from __future__ import annotations

import os
from pathlib import Path

from clever_ferry.ferry import Ferry
from clever_ferry.finding import described_computer, this_computer
from clever_ferry.keeping.keeps import Keeps
from clever_ferry.recipes import Recipes

__all__ = ["open_ferry"]


def open_ferry(computer: Path | None = None) -> Ferry:
    """Return the ferry for this computer, or for a described one.

    Changes that were cut short, by a kill or a power cut, are set right first: see `recovered`.

    The environment's `CFERRY_HOME` names the folder for the tool's own data (backups,
    logbook, and `recipes/` for your own); without it, the system's usual folders serve.
    `CFERRY_LOCKER` names another folder for the backups alone.
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
    ferry = Ferry(here, Recipes(config / "recipes"), Keeps(keeps, Path(locker) if locker else None))
    ferry.recovered = ferry.recover()
    return ferry
