"""Watch a library while its application brings files here or gathers them, until it is whole and closed."""

from __future__ import annotations

import os
import time
from collections import deque
from collections.abc import Callable, Iterator
from pathlib import Path

from dunechest.jobs.known.named import AnyLibrary, get_library
from dunechest.jobs.study.contents import list_library
from dunechest.library.in_use import in_use
from dunechest.library.library import Library
from dunechest.machine.folders import own_home
from dunechest.model.look import Watched

#: Seconds of which the rate is the average.
_AVERAGE = 60.0
#: So many looks in a row must show the same before it counts as finished.
_SETTLED = 3
#: Of the time no more than this share goes into looking: a large library is walked less often.
_SHARE = 0.2


def watch(
    library: AnyLibrary,
    *,
    every: float = 2.0,
    wait: Callable[[float], None] = time.sleep,
    now: Callable[[], float] = time.monotonic,
) -> Iterator[Watched]:
    """Watch a library until it is complete and its application is closed. Nothing is opened or changed.

    Parameters
    ----------
    library : Library, path or name
        What to watch.
    every : float
        Seconds between two looks; more for a library so large that a look itself takes long.
    wait, now : callable
        Wait for some seconds, and tell the seconds that went by.

    Yields
    ------
    Watched
        Each look; the last one is `whole`.

    Raises
    ------
    CutOffError
        If its folder can no longer be listed.

    Examples
    --------
    >>> import pathlib, tempfile
    >>> place = pathlib.Path(tempfile.mkdtemp())
    >>> _ = (place / "notes.txt").write_text("spring tide at noon")
    >>> [look.complete for look in watch(place, wait=lambda seconds: None)]
    [False, False, True]
    """
    known, home = get_library(library), Path(os.path.realpath(own_home()))
    seen: deque[tuple[float, int]] = deque()
    before: tuple[object, ...] | None = None
    changed = now()
    alike = 0
    while True:
        begun = now()
        state, (files, size, placeholders, placeholder_bytes), users = _look(known, home)
        alike = alike + 1 if state == before else 1
        if state != before:
            before, changed = state, begun
        seen.append((begun, size))
        while len(seen) > 2 and begun - seen[0][0] > _AVERAGE:
            seen.popleft()
        took = seen[-1][0] - seen[0][0]
        rate = (seen[-1][1] - seen[0][1]) / took if took > 0 else 0.0
        left = placeholder_bytes / rate if placeholders and rate > 0 else None
        whole = not placeholders and not users and alike >= _SETTLED
        yield Watched(
            known.name, files, size, placeholders, placeholder_bytes, users, rate, left, begun - changed, whole
        )
        if whole:
            return
        wait(max(every, (now() - begun) * (1 / _SHARE - 1)))


def _look(library: Library, home: Path) -> tuple[tuple[object, ...], tuple[int, int, int, int], tuple[str, ...]]:
    """Return what must stay the same, numbers of files and bytes here and to come, and who has it open."""
    listing = list_library(library)
    here = [file for file in listing.files if not file.placeholder]
    placeholders = [file for file in listing.files if file.placeholder]
    numbers = (len(here), sum(f.size for f in here), len(placeholders), sum(f.size for f in placeholders))
    newest = max((file.mtime_ns for file in listing.files), default=0)
    users = in_use(library.path, library.kind, [file.path for file in here], home)
    names = tuple(sorted({use.process for use in users}))
    return (*numbers, newest, names), numbers, names
