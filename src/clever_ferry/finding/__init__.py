"""Finding: computers and their folders, berths on them, saves in those, and their addresses."""

from clever_ferry.finding.addresses import Address, parse_address, select
from clever_ferry.finding.berths import Berth, open_berth
from clever_ferry.finding.computers import Computer, described_computer, this_computer
from clever_ferry.finding.searching import Search, at_place, berth_at, find_berths, one_berth

__all__ = [
    "Address",
    "Berth",
    "Computer",
    "Search",
    "at_place",
    "berth_at",
    "described_computer",
    "find_berths",
    "one_berth",
    "open_berth",
    "parse_address",
    "select",
    "this_computer",
]
