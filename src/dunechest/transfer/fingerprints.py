"""One number for the names, sizes, times and modes of all that lies in a folder.

The digests of its folders' texts are added up, so that they may come in any order, and from several processes: of a large
library each looks over a part.
"""

from __future__ import annotations

import errno
import os
from collections.abc import Iterator
from typing import TypeVar

from dunechest.transfer.helpers import Asked
from dunechest.transfer.tasks import LookJob, SizesJob
from dunechest.transfer.totals import sizes_total, total_of
from dunechest.transfer.walk import look_over, sizes_by_folder

#: Files from which on starting several processes takes less time than it saves.
MANY = 100_000
#: So many parts are there for each process at the least, so that none waits long for another.
_PARTS = 32

#: So many processes look at one folder; more would find no processor.
_LOOKERS = min(4, os.cpu_count() or 1)

_Item = TypeVar("_Item")


def total_of_folder(root: str, files: int) -> int:
    """Return what the texts of `look_over` add up to for a folder.

    Parameters
    ----------
    root : str
        The folder.
    files : int
        How many files are expected in it; only how many processes look depends on it.

    Raises
    ------
    OSError
        If anything cannot be listed or asked about.
    """
    if files < MANY:
        return total_of(look_over(root))
    from dunechest.transfer.workers import Workers

    pending = [""]
    total = 0
    with Workers(_LOOKERS, lambda count: None) as workers:
        # From the top down, until there is enough to share out.
        wide = _widening(look_over(root, pending), pending, _PARTS * max(workers.workers, 1))
        total += total_of(wide)
        for done in workers.run(_jobs(root, pending)):
            if done.total is None:
                raise OSError(errno.EIO, "a part of it could not be looked over", root)
            total += int.from_bytes(done.total, "little")
    return total


class Sizes:
    """What `sizes_total` says of the files below a folder, with how many there are and their bytes, found by helpers.

    Parameters
    ----------
    root : str
        The folder.
    files : int
        How many files are expected in it; only how many helpers look depends on it.
    """

    def __init__(self, root: str, files: int) -> None:
        pending = [""]
        seen: list[tuple[str, list[tuple[str, int]]]] = []
        lookers = 1 if files < MANY else min(2, _LOOKERS)
        if lookers > 1:
            seen += _widening(sizes_by_folder(root, pending), pending, _PARTS * lookers)
        self._seen = sum(len(own) for _, own in seen), sum(size for _, own in seen for _, size in own)
        self._total = sizes_total(seen)
        shares = [[os.fsencode(folder) for folder in pending[number::lookers]] for number in range(lookers)]
        self._asked = [Asked(SizesJob(os.fsencode(root), share)) for share in shares if share]

    def count(self) -> tuple[int, int]:
        """Return how many files there are, and their bytes."""
        done = [asked.outcome() for asked in self._asked]
        files, size = self._seen
        return files + sum(part.files for part in done), size + sum(part.size for part in done)

    def total(self) -> int:
        """Return what the names and sizes add up to."""
        return self._total + sum(int.from_bytes(asked.outcome().total or b"", "little") for asked in self._asked)


def _widening(found: Iterator[_Item], pending: list[str], enough: int) -> Iterator[_Item]:
    """Yield what is found until so many folders are still to be looked at, or none is."""
    for item in found:
        yield item
        if len(pending) >= enough:
            return
        pending[:] = [*pending[1:], *pending[:1]]  # the next one from the front: all of a level before the one below


def _jobs(root: str, folders: list[str]) -> Iterator[LookJob]:
    each = max(1, len(folders) // (_PARTS * 2))
    for start in range(0, len(folders), each):
        yield LookJob(os.fsencode(root), [os.fsencode(folder) for folder in folders[start : start + each]])
