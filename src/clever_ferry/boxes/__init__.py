"""Boxes: containers of named entries, read from files and written back as files to replace."""

from clever_ferry.boxes.box import Box, Choosy, Contents, Entry, Making, Put
from clever_ferry.boxes.folder import FolderBox
from clever_ferry.boxes.making import make_box
from clever_ferry.boxes.spec import BoxSpec

__all__ = [
    "Box",
    "BoxSpec",
    "Choosy",
    "Contents",
    "Entry",
    "FolderBox",
    "Making",
    "Put",
    "make_box",
]
