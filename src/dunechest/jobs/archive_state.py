"""Under which name a library goes into a chest, and whether that is new, there just so, or gets its next edition."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping

from dunechest.chest import editions
from dunechest.chest.chest import BagEntry, Chest
from dunechest.errors import DuneChestError
from dunechest.findings import Finding
from dunechest.jobs.changes import Difference, difference, same_library
from dunechest.jobs.find import Library
from dunechest.jobs.planned import PlannedDatabase, PlannedFile
from dunechest.jobs.selection import Selection
from dunechest.names import shown, slug


def state_in(
    selection: Selection,
    library: Library,
    chest: Chest,
    name: str | None,
    taken: dict[str, Library],
    files: Iterable[PlannedFile],
    databases: Iterable[PlannedDatabase],
) -> tuple[str, str, list[Finding], list[tuple[str, int]], Difference | None]:
    """Decide the bag's name, and whether it is new, there just so, or gets its next edition.

    Then come moment and bytes of each earlier edition of the same library, and in what it
    differs from the latest.
    """
    entries = {entry.name: entry for entry in chest.bags()}
    partial = tuple(sorted(part.name for part in selection.parts))
    own = [
        e
        for e in entries.values()
        if e.library is not None and same_library(e.library, library) and e.library.partial == partial
    ]
    earlier = [size for one in own for size in _sizes(one)]
    if name is not None:
        own = [e for e in own if e.name == name]
    usual = slug(f"{library.name} {' '.join(part.title for part in selection.parts)}")
    bag = name or (own[0].name if own else usual)
    if bag in taken:
        holder = f"{shown(str(taken[bag].path))}, archived in the same run,"
        return bag, "barred", [_taken(bag, holder, entries)], earlier, None
    # It may lie here several times, under several names: one that is just so is enough.
    newest: tuple[str, str, Difference] | None = None
    for one in own:
        assert one.library is not None
        found = difference(one, files, databases, selection)
        if found.none:
            return one.name, "unchanged", [], earlier, found
        if newest is None or one.library.archived >= newest[0]:
            newest = (one.library.archived, one.name, found)
    if newest is not None:
        return newest[1], "next", [], earlier, newest[2]
    entry = entries.get(bag)
    if entry is None or entry.state == "unfinished":
        return bag, "new", [], earlier, None
    holder = (
        f"another library ({shown(entry.library.name)})" if entry.library else "something Dune Chest did not make"
    )
    return bag, "barred", [_taken(bag, holder, entries)], earlier, None


def _sizes(entry: BagEntry) -> Iterator[tuple[str, int]]:
    """Yield moment and bytes of each edition of a bag that can be read."""
    assert entry.library is not None
    for edition in editions.numbers(entry.folder, entry.library.edition):
        try:
            record = editions.record_of(entry.folder, entry.library, edition)
        except DuneChestError:
            continue
        yield record.archived, record.totals.bytes_stored


def _free_name(bag: str, entries: Mapping[str, object]) -> str:
    """Return a name beside `bag` that nothing in the chest has."""
    number = 2
    while f"{bag}-{number}" in entries:
        number += 1
    return f"{bag}-{number}"


def _taken(bag: str, holder: str, entries: Mapping[str, object]) -> Finding:
    return Finding(
        "name-taken",
        "stop",
        f"The name {shown(bag)} is already taken by {holder} in this chest.",
        f"Give this library another name with --name, for example: --name {_free_name(bag, entries)}",
    )
