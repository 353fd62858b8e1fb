"""Under which name a library goes into a chest, and whether that is new, there just so, or gets its next edition."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping

from dunechest.chest import editions
from dunechest.chest.bag_entry import BagEntry
from dunechest.chest.chest import Chest
from dunechest.chest.layout import LIBRARY
from dunechest.errors import DuneChestError
from dunechest.findings import Finding
from dunechest.jobs.changes import Difference, difference, same_library
from dunechest.jobs.planned import PlannedDatabase, PlannedFile
from dunechest.jobs.study.selection import Selection
from dunechest.library.library import Library
from dunechest.names import quoted, shown, slug


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
    told = list(_about_the_chest(chest))
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
        return bag, "barred", [*told, _taken(bag, holder, entries)], earlier, None
    entry = entries.get(bag)
    spoilt = [*own, *([entry] if entry is not None and entry.state in ("damaged", "unusable") else [])]
    for one in spoilt:
        if (finding := damaged(one, chest.unfinished.get(one.name, ""), entries)) is not None:
            return one.name, "barred", [*told, finding], earlier, None
    # It may lie here several times, under several names: one that is just so is enough.
    newest: tuple[str, str, Difference] | None = None
    for one in own:
        assert one.library is not None
        found = difference(one, files, databases, selection)
        if found.none:
            return one.name, "unchanged", told, earlier, found
        if newest is None or one.library.archived >= newest[0]:
            newest = (one.library.archived, one.name, found)
    if newest is not None:
        return newest[1], "next", told, earlier, newest[2]
    if entry is None or entry.state == "unfinished":
        return bag, "new", told, earlier, None
    holder = (
        f"another library ({shown(entry.library.name)})" if entry.library else "something Dune Chest did not make"
    )
    return bag, "barred", [*told, _taken(bag, holder, entries)], earlier, None


def _about_the_chest(chest: Chest) -> Iterator[Finding]:
    """Stop where the chest's own records are damaged: what is added would lie in a chest that nothing proves."""
    if chest.faults:
        fault = chest.faults[0]
        yield Finding(
            "chest-damaged",
            "stop",
            f"The chest's own record {shown(fault.path)} is damaged: {shown(fault.why)}.",
            f"Write it again: dunechest chest rebuild {quoted(str(chest.folder))}",
        )


def damaged(entry: BagEntry, unfinished: str, entries: Mapping[str, object]) -> Finding | None:
    """Stop where a record of the archive is not proven: a new edition would seal the damage with new digests.

    Parameters
    ----------
    entry : BagEntry
        The bag that would get the edition.
    unfinished : str
        Why a decided change of it could not be finished, if so.
    entries : mapping
        What the chest holds, by name.
    """
    if entry.state == "unusable" and not entry.is_ours:
        return None
    if unfinished:
        words = f"A decided change of {shown(entry.name)} waits to be finished: {unfinished}"
        return Finding("damaged-archive", "stop", words, "Mend that first; nothing in the archive is lost.")
    faults = entry.records.faults()
    if not faults and entry.state == "whole":
        return None
    path, why = (faults[0].path, faults[0].why) if faults else (LIBRARY, entry.why)
    more = f", and {len(faults) - 1} more" if len(faults) > 1 else ""
    other = _free_name(entry.name, entries)
    return Finding(
        "damaged-archive",
        "stop",
        f"The archive {shown(entry.name)} in this chest is damaged ({shown(path)}: {shown(why)}{more}), so no edition is "
        "added to it: that would hide the damage.",
        f"Keep it as it is, and archive the library again beside it: --name {other}. What is intact in the damaged one can "
        "be restored; dunechest verify names the rest.",
    )


def _sizes(entry: BagEntry) -> Iterator[tuple[str, int]]:
    """Yield moment and bytes of each edition of a bag that can be read."""
    assert entry.library is not None
    own = entry.records
    for edition in own.numbers(entry.library.edition):
        try:
            record = editions.record_of(own, entry.library, edition)
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
