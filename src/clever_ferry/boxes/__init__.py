"""Boxes: containers of named entries, read from files and written back as files to replace."""

from clever_ferry.boxes.box import Box, Contents, Entry, Making, Put
from clever_ferry.boxes.folder import FolderBox
from clever_ferry.boxes.indexed import IndexedBox
from clever_ferry.boxes.spec import BoxSpec

__all__ = [
    "Box",
    "BoxSpec",
    "Contents",
    "Entry",
    "FolderBox",
    "IndexedBox",
    "Making",
    "Put",
]
