"""Which files are read before anything is deleted."""

from __future__ import annotations

import random
from collections.abc import Sequence

from dunechest.transfer.walk import FileEntry

#: So many files are read at least, and so many bytes at most (but always some files).
_FILES, _BYTES = 48, 1 << 30


def sample(files: Sequence[FileEntry], *, everything: bool) -> list[FileEntry]:
    """Return the files to read: all, or some by chance, other ones each time."""
    if everything or len(files) <= _FILES:
        return list(files)
    chosen: list[FileEntry] = []
    total = 0
    for file in random.sample(list(files), _FILES):
        if total + file.size <= _BYTES or len(chosen) < 4:
            chosen.append(file)
            total += file.size
    return chosen
