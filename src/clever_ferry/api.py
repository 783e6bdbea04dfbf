"""What scripts use: a ferry, what its methods return, and the errors that they raise.

docs/api.md shows it with examples. Nothing else of the package promises to stay as it is.
"""

from clever_ferry.backups import Backups, Extracted, ListedBackups
from clever_ferry.boarding import open_ferry
from clever_ferry.cargo import Fact, Piece, Save
from clever_ferry.checking import Checked
from clever_ferry.crossing.backing_up import BackedUp
from clever_ferry.crossing.carrying import Crossed
from clever_ferry.crossing.plan import Move, Plan
from clever_ferry.crossing.progress import Progress
from clever_ferry.crossing.restoring import Restored, Restoring
from clever_ferry.crossing.settling import Recovered
from clever_ferry.crossing.tidying import Hidden, Tidied
from clever_ferry.crossing.undoing import Undoing, Undone
from clever_ferry.errors import (
    ChoiceNeededError,
    DamagedError,
    FerryError,
    HalfDoneError,
    KeyNeededError,
    NotFoundError,
    NotMadeError,
    NotProvenError,
    PutBackError,
    RecipeError,
    RefusedError,
    UnknownNameError,
    UnsupportedError,
    WrongUseError,
)
from clever_ferry.ferry import Ferry
from clever_ferry.finding.berths import Berth, OpenBerth
from clever_ferry.handovers import Handover
from clever_ferry.keeping.logbook import Details, Record
from clever_ferry.keeping.pruning import Pruning, Rules
from clever_ferry.keeping.snapshots import Kept, Snapshot
from clever_ferry.keeping.verifying import Verified
from clever_ferry.looking import PartOf, Seen, Sight, Surveyed
from clever_ferry.noting import Chosen, Noting
from clever_ferry.proving.pairing import Pairs
from clever_ferry.proving.trying import Tried
from clever_ferry.recipes.tables import Column, Table
from clever_ferry.recipes.telling import EditionTold, RouteTold
from clever_ferry.rehearsing import Rehearsed
from clever_ferry.results import (
    BackedUpAll,
    ChangesSeen,
    Explained,
    Failed,
    HiddenSaves,
    SetAgainst,
    Unboxed,
)
from clever_ferry.sheets.differing import Difference, Differences, TableDifferences
from clever_ferry.sheets.sheet import Sheet, SheetTable
from clever_ferry.unboxing.opening import Opened
from clever_ferry.unboxing.taking_apart import Part, Together

__all__ = [
    "BackedUp",
    "BackedUpAll",
    "Backups",
    "Berth",
    "ChangesSeen",
    "Checked",
    "ChoiceNeededError",
    "Chosen",
    "Column",
    "Crossed",
    "DamagedError",
    "Details",
    "Difference",
    "Differences",
    "EditionTold",
    "Explained",
    "Extracted",
    "Fact",
    "Failed",
    "Ferry",
    "FerryError",
    "HalfDoneError",
    "Handover",
    "Hidden",
    "HiddenSaves",
    "Kept",
    "KeyNeededError",
    "ListedBackups",
    "Move",
    "NotFoundError",
    "NotMadeError",
    "NotProvenError",
    "Noting",
    "OpenBerth",
    "Opened",
    "Pairs",
    "Part",
    "PartOf",
    "Piece",
    "Plan",
    "Progress",
    "Pruning",
    "PutBackError",
    "RecipeError",
    "Record",
    "Recovered",
    "RefusedError",
    "Rehearsed",
    "Restored",
    "Restoring",
    "RouteTold",
    "Rules",
    "Save",
    "Seen",
    "SetAgainst",
    "Sheet",
    "SheetTable",
    "Sight",
    "Snapshot",
    "Surveyed",
    "Table",
    "TableDifferences",
    "Tidied",
    "Together",
    "Tried",
    "Unboxed",
    "Undoing",
    "Undone",
    "UnknownNameError",
    "UnsupportedError",
    "Verified",
    "WrongUseError",
    "open_ferry",
]
