"""Ranges of the numbers of files."""

from __future__ import annotations

from collections.abc import Iterable, Iterator


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
