"""Make folders, each written down before it is made."""

from __future__ import annotations

from pathlib import Path

from dunechest.ledger.past_changes import MadeFolder, OpenChange
from dunechest.names import to_wire


def make_above(folder: Path, past_change: OpenChange) -> None:
    """Make a folder and those above it that are not there."""
    missing = []
    while not folder.is_dir():
        missing.append(folder)
        folder = folder.parent
    for item in reversed(missing):
        past_change.will(MadeFolder(to_wire(str(item))))
        item.mkdir()
