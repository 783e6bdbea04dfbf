"""Boxes: containers of named entries, read from files and written back as files to replace."""

from clever_ferry.boxes.archives import ArchiveBox
from clever_ferry.boxes.box import Box, Contents, Entry, Making, Put
from clever_ferry.boxes.folder import FolderBox
from clever_ferry.boxes.indexed import IndexedBox
from clever_ferry.boxes.making import make_box
from clever_ferry.boxes.packed import PackedBox
from clever_ferry.boxes.spec import BoxSpec
from clever_ferry.boxes.tables import TableBox

__all__ = [
    "ArchiveBox",
    "Box",
    "BoxSpec",
    "Contents",
    "Entry",
    "FolderBox",
    "IndexedBox",
    "Making",
    "PackedBox",
    "Put",
    "TableBox",
    "make_box",
]
