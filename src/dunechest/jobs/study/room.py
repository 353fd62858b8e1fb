"""The room on a drive, held against what is needed."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from dunechest.findings import Finding
from dunechest.model.findings import finding_of
from dunechest.model.study import Drive

#: Without earlier archives to learn from, a library is taken to grow by this share.
_GROWTH = 0.1
#: So many times the growth seen are to fit beside what is archived now.
_TIMES = 3


def headroom(own_sizes: Iterable[tuple[str, int]], need: int) -> int:
    """Return the bytes that should stay free for what the library will grow by.

    Parameters
    ----------
    own_sizes : iterable of (str, int)
        Moment and bytes of each earlier archive of the same library in this chest.
    need : int
        What it needs now.
    """
    sizes = [size for _, size in sorted(own_sizes)]
    if len(sizes) >= 2:
        return max(0, _TIMES * (sizes[-1] - sizes[0]) // (len(sizes) - 1))
    return int(need * _GROWTH)


def room_findings(need: int, promised: int, spare: int, drive: Drive) -> list[Finding]:
    """Compare the room on a drive with what is needed, and with what the library will grow by (bytes)."""
    place = drive.place
    missing = need + promised - place.free
    if missing > 0:
        return [finding_of("no-room", need=need + promised, free=place.free, missing=missing)]
    if place.free - need - promised < spare:
        return [finding_of("little-room", free=place.free - need - promised, spare=spare)]
    return []


def names_findings(needed: int, drive: Drive) -> list[Finding]:
    """Compare the files and folders that a drive can still hold with what is needed: some have only so many."""
    free = drive.place.free_names
    if free is None or free >= needed:
        return []
    return [finding_of("no-room/names", entries=free, needed=needed)]


def nearest(place: Path) -> Path:
    """Return the closest folder above `place` that exists."""
    folder = place.parent
    while not folder.is_dir():
        folder = folder.parent
    return folder
