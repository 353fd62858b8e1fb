"""Hold a library against its newest known state: whether much changed at once, and what a chest would lack."""

from __future__ import annotations

import msgspec

from dunechest.chest.chest import Chest
from dunechest.findings import Finding
from dunechest.jobs.archive.planning.destination import Stored
from dunechest.jobs.archive.planning.mass_change import is_surprising, mass_change, since_edition, since_state
from dunechest.jobs.archive.planning.newest import UnseenOf, newest_elsewhere, not_in_chest
from dunechest.library.library import Library
from dunechest.model.archive import Difference
from dunechest.model.study import Contents, Selection
from dunechest.names import shown
from dunechest.words import local


class Guard(msgspec.Struct, frozen=True):
    """What a look at the states before says.

    `marked` says that much changed since the latest edition of the bag, `lacks` how many files are only in another chest.
    """

    marked: bool = False
    lacks: int = 0
    findings: tuple[Finding, ...] = ()


def guard_against(
    contents: Contents,
    selection: Selection,
    chest: Chest,
    stored: Stored,
    previous: Difference | None,
    bag: str,
    unseen_of: UnseenOf,
) -> Guard:
    """Say whether much changed at once since the newest state that is known of a library, in any chest; and what it had."""
    library = contents.library
    change = since_edition(previous, library, selection) if previous is not None else None
    marked = change is not None and is_surprising(change, library)
    closed = [entry.path for entry in contents.listing.unreadable]
    own = previous.record if previous is not None else None
    newest = newest_elsewhere(library, chest, own, unseen_of, closed)
    if newest is None:
        if change is None or previous is None or not marked:
            return Guard()
        then = f"{shown(chest.label)}, edition {previous.record.edition}, archived {local(previous.record.archived)}"
        return Guard(marked, 0, (mass_change(change, then, _back(chest.label, bag, library)),))
    carried = previous.carried if previous is not None else ()
    found = []
    lacking = newest.lacking(carried)
    if lacking:
        found.append(not_in_chest(newest.label, newest.bag, lacking, chest.label))
    change = since_state(newest, library, selection, stored.files, stored.databases, carried)
    if is_surprising(change, library):
        found.append(mass_change(change, newest.in_words, _back(newest.label, newest.bag, library)))
    return Guard(marked, len(lacking), tuple(found))


def _back(label: str, bag: str, library: Library) -> tuple[str, str, str]:
    """Return what brings a library back as a chest has it: the chest, the name there, and the folder."""
    return label, bag, str(library.path)
