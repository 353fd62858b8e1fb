"""What should lie in a bag's ``data/``, held against what lies there."""

from __future__ import annotations

import stat
from pathlib import Path

from dunechest.chest.file_table import FileTable
from dunechest.chest.layout import DATA_FOLDER
from dunechest.transfer.fingerprints import Sizes
from dunechest.transfer.totals import sizes_total
from dunechest.transfer.walk import sizes_below


def mode_of(mode: int, *, readable: bool) -> int:
    """Return the permission bits that a file gets in a chest: its own, and its owner can always read and replace it.

    Parameters
    ----------
    mode : int
        Those that it has in the library, which are recorded.
    readable : bool
        Whether the chest was made so that whoever has the drive can read what is on it.
    """
    return (mode & 0o777) | 0o600 | (0o444 if readable else 0)


def is_there(bag: Path, path: str, size: int) -> bool:
    """Whether a file lies in a bag in the size that was recorded."""
    try:
        info = (bag / DATA_FOLDER / path).lstat()
    except OSError:
        return False
    return stat.S_ISREG(info.st_mode) and info.st_size == size


class PayloadSizes:
    """What lies in a bag's ``data/``, looked at by a helper while other things are done.

    Parameters
    ----------
    bag : Path
        The bag's folder.
    files : int
        How many files should lie there; only how many helpers look depends on it.
    """

    def __init__(self, bag: Path, files: int) -> None:
        self._sizes = Sizes(str(bag / DATA_FOLDER), files)

    def count(self) -> tuple[int, int]:
        """Return how many files there are, and their bytes."""
        return self._sizes.count()

    def is_just(self, files: FileTable) -> bool:
        """Whether there are these files in these sizes, and no others."""
        return self._sizes.total() == sizes_total(files.sizes_by_folder())


def lost_in(bag: Path, files: FileTable, lying: PayloadSizes | None = None) -> set[str]:
    """Return the paths below ``data/`` of what should lie in a bag and is not there, or has another size.

    Parameters
    ----------
    bag : Path
        The bag's folder.
    files : FileTable
        What should lie there; a table without an edition before it.
    lying : PayloadSizes, optional
        What was seen there a moment ago: if it is just that, nothing is missing.
    """
    if lying is not None and lying.is_just(files):
        return set()
    return files.lacking(sizes_below(str(bag / DATA_FOLDER)))
