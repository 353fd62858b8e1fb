"""Make folders, each written down before it is made."""

from __future__ import annotations

from pathlib import Path

from dunechest.ledger.deeds import MadeFolder, OpenDeed
from dunechest.names import to_wire


def make_above(folder: Path, deed: OpenDeed) -> None:
    """Make a folder and those above it that are not there."""
    missing = []
    while not folder.is_dir():
        missing.append(folder)
        folder = folder.parent
    for item in reversed(missing):
        deed.will(MadeFolder(to_wire(str(item))))
        item.mkdir()
