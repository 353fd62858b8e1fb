"""Whether the bags of one name in two chests are states of the same library, one after the other."""

from __future__ import annotations

from dunechest.chest.records import LibraryRecord
from dunechest.jobs.copy.image import Held


def why_not_same(source: Held, target: Held) -> str | None:
    """Say in what the target's bag is not an earlier or later state of the source's; None if it is.

    An edition is told by what no drive changes in it: when it was archived, from where, and its totals.
    """
    ours, theirs = _by_number(source), _by_number(target)
    both = sorted(ours.keys() & theirs.keys())
    for number in both:
        if _told(ours[number]) != _told(theirs[number]):
            if ours[number].origin == theirs[number].origin or _same_state(ours[number], theirs[number]):
                return f"is an archive of its own: its edition {number} is another one"
            return "is another library of the same name"
    if not both:
        if source.record.origin != target.record.origin or source.record.name != target.record.name:
            return "is another library of the same name"
        first, last = sorted((source.record, target.record), key=lambda record: record.edition)
        if first.archived > last.archived:
            return "is an archive of its own"
    return None


def _same_state(one: LibraryRecord, other: LibraryRecord) -> bool:
    return bool(one.state) and one.state == other.state


def _by_number(held: Held) -> dict[int, LibraryRecord]:
    found = {number: held.own.edition(number) for number in held.numbers[:-1]}
    return found | {held.record.edition: held.record}


def _told(record: LibraryRecord) -> tuple[object, ...]:
    """Return what is the same of an edition on every drive."""
    return (
        record.name,
        record.kind,
        record.origin,
        record.edition,
        record.archived,
        record.totals,
        record.fingerprint,
        record.folders,
        record.links,
        record.partial,
    )
