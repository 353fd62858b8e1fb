"""What copying to a server costs in bytes and requests: now, and each month from then on."""

from __future__ import annotations

from collections.abc import Iterable

from dunechest.model.copy import CopyPlan, Costs, Traffic
from dunechest.remote.protocols import protocol_of
from dunechest.transfer import elsewhere

_PART = 16 << 20
#: Requests for the records of a library, and for looking at what is there: one for so many files listed.
_RECORDS, _LISTED = 60, 1000
#: Bytes of the lists of a library for each of its files.
_LINES = 400
_CHANGED = 0.01


def costs_of(plans: Iterable[CopyPlan]) -> Costs | None:
    """Reckon what plans to copy to a server cost; None if the target is on a drive.

    Parameters
    ----------
    plans : iterable of CopyPlan
        From one `plan_copy`.

    Returns
    -------
    Costs or None
        A month is four copies of what changed, a quarter of 1 % each.
    """
    every = list(plans)
    place = elsewhere.place_of(every[0].target.folder) if every else None
    if place is None:
        return None
    now = Traffic(0, 0, 0)
    files = size = 0
    for plan in every:
        image = plan._image
        if image is None:
            continue
        files += image.record.totals.files_stored
        size += image.record.totals.bytes_stored
        if plan.state in ("new", "next"):
            lines = 0 if image.verbatim else image.record.totals.files_stored * _LINES
            parts = sum(item.size // _PART for item in plan.sync.bring)
            now += reckon(place.kind, plan.copy_count, plan.copy_bytes + lines, parts)
    return Costs(now, monthly(place.kind, files, size), check(place.kind, files, size))


def reckon(kind: str, files: int, size: int, parts: int, *, listed: int = 0) -> Traffic:
    """Reckon what it costs to send files and read them back: a number of files, bytes in all, and parts beyond the first."""
    protocol = protocol_of(kind)
    assert protocol is not None  # there is a chest there
    requests = files * protocol.file_requests + parts * protocol.part_requests + _RECORDS + listed // _LISTED
    return Traffic(size, size, requests)


def monthly(kind: str, files: int, size: int) -> Traffic:
    """Reckon what four copies cost in a month in which 1 % of so many files and bytes changes."""
    total = Traffic(0, 0, 0)
    for _ in range(4):
        some, part = int(files * _CHANGED / 4), int(size * _CHANGED / 4)
        total += reckon(kind, some, part + files * _LINES, part // _PART, listed=files)
    return total


def check(kind: str, files: int, size: int) -> Traffic:
    """Reckon what it costs to read everything once."""
    return Traffic(0, size, files * 2 + size // _PART + files // _LISTED + _RECORDS)
