"""One number for the names, sizes, times and modes of all that lies in a folder.

The digests of its folders' texts are added up, so that they may come in any order, and from several processes: of a large
library each looks over a part.
"""

from __future__ import annotations

import errno
import os
from collections.abc import Iterator

from dunechest.transfer.tasks import LookJob
from dunechest.transfer.totals import total_of
from dunechest.transfer.walk import look_over

#: Files from which on starting several processes takes less time than it saves.
MANY = 100_000
#: So many parts are there for each process at the least, so that none waits long for another.
_PARTS = 32


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
    from dunechest.transfer.crew import Crew

    pending = [""]
    total = 0
    with Crew(min(4, os.cpu_count() or 1), lambda count: None) as crew:
        # From the top down, until there is enough to share out.
        wide = _widening(look_over(root, pending), pending, _PARTS * max(crew.workers, 1))
        total += total_of(wide)
        for done in crew.run(_jobs(root, pending)):
            if done.total is None:
                raise OSError(errno.EIO, "a part of it could not be looked over", root)
            total += int.from_bytes(done.total, "little")
    return total


def _widening(lines: Iterator[str], pending: list[str], enough: int) -> Iterator[str]:
    """Yield lines until so many folders are still to be looked at, or none is."""
    for line in lines:
        yield line
        if len(pending) >= enough:
            return
        pending[:] = [*pending[1:], *pending[:1]]  # the next one from the front: all of a level before the one below


def _jobs(root: str, folders: list[str]) -> Iterator[LookJob]:
    each = max(1, len(folders) // (_PARTS * 2))
    for start in range(0, len(folders), each):
        yield LookJob(os.fsencode(root), [os.fsencode(folder) for folder in folders[start : start + each]])
