"""What should lie in a bag's ``data/``, held against what lies there."""

from __future__ import annotations

import stat
from pathlib import Path

from dunechest.chest.file_table import FileTable
from dunechest.chest.layout import DATA_FOLDER
from dunechest.transfer.walk import sizes_below


def is_there(bag: Path, path: str, size: int) -> bool:
    """Whether a file lies in a bag in the size that was recorded."""
    try:
        info = (bag / DATA_FOLDER / path).lstat()
    except OSError:
        return False
    return stat.S_ISREG(info.st_mode) and info.st_size == size


def lost_in(bag: Path, files: FileTable) -> set[str]:
    """Return the paths below ``data/`` of what should lie in a bag and is not there, or has another size."""
    return files.lacking(sizes_below(str(bag / DATA_FOLDER)))
