"""Ranges of the numbers of files."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Collection, Iterable, Iterator


def runs_of(held: Iterable[tuple[int, int, int]]) -> Iterator[tuple[int, int, int, int]]:
    """Yield runs of files that are in the same editions: low, high, first, last; given number, first, last."""
    open_runs: dict[tuple[int, int], list[int]] = {}
    for number, first, last in held:
        run = open_runs.get((first, last))
        if run is not None and run[1] == number - 1:
            run[1] = number
            continue
        if run is not None:
            yield run[0], run[1], first, last
        open_runs[first, last] = [number, number]
    for (first, last), (low, high) in open_runs.items():
        yield low, high, first, last


def joined(runs: Iterable[tuple[int, int]]) -> list[tuple[int, int]]:
    """Join runs that touch; they come sorted."""
    found: list[tuple[int, int]] = []
    for low, high in runs:
        if found and low <= found[-1][1] + 1:
            found[-1] = found[-1][0], max(found[-1][1], high)
        else:
            found.append((low, high))
    return found


def ended(
    runs: Iterable[tuple[int, int, int, int]], numbers: Collection[int], open_end: int, end: int
) -> list[tuple[int, int, int, int]] | None:
    """Give files the edition that has them last, in whose runs it is open; None if one of them is in no such run.

    Parameters
    ----------
    runs : iterable of tuple
        Low, high, first and last edition.
    numbers : collection of int
        The files.
    open_end, end : int
        The last edition of those runs, and the one that the files get.
    """
    pending = sorted(numbers)
    found: list[tuple[int, int, int, int]] = []
    for low, high, first, last in sorted(runs):
        if last != open_end:
            found.append((low, high, first, last))
            continue
        at = bisect_left(pending, low)
        while at < len(pending) and pending[at] <= high:
            number = pending.pop(at)
            if low < number:
                found.append((low, number - 1, first, last))
            found.append((number, number, first, end))
            low = number + 1
        if low <= high:
            found.append((low, high, first, last))
    return None if pending else _merged(found)


def _merged(runs: Iterable[tuple[int, int, int, int]]) -> list[tuple[int, int, int, int]]:
    found: list[tuple[int, int, int, int]] = []
    for low, high, first, last in sorted(runs, key=lambda run: (run[2:], run)):
        if found and found[-1][2:] == (first, last) and found[-1][1] == low - 1:
            found[-1] = (found[-1][0], high, first, last)
        else:
            found.append((low, high, first, last))
    return found


def gaps_in(low: int, high: int, covered: Iterable[tuple[int, int]]) -> Iterator[tuple[int, int]]:
    """Yield the parts of a range that nothing covers."""
    for start, end in covered:
        if end < low:
            continue
        if start > high:
            break
        if start > low:
            yield low, start - 1
        low = end + 1
    if low <= high:
        yield low, high
