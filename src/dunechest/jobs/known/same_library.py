"""Which bags of several chests are copies of one library.

A name alone says nothing, and neither does equal content: two libraries may have the same. What tells is the folder from
which a bag was archived; and where that is gone, the states that a library had on this computer, or that a later edition
follows.
"""

from __future__ import annotations

import os
from collections.abc import Iterable

from dunechest.jobs.known.everything import Known
from dunechest.ledger.ledger import Holding
from dunechest.names import shown

#: The computer that has a library, and its folder there.
Origin = tuple[str, str]


def same_library(held: Iterable[Holding], known: Known) -> list[tuple[Origin, list[Holding]]]:
    """Group what chests hold by library, each with the computer that has it and its folder there.

    Parameters
    ----------
    held : iterable of Holding
        What chests hold.
    known : Known
        What else is known.
    """
    groups: dict[Origin, list[Holding]] = {}
    places = _places(known)
    for item in held:
        groups.setdefault(_origin(item, known, places), []).append(item)
    return _joined(groups, known)


def _places(known: Known) -> dict[str, str]:
    """Return the places of this computer's libraries that are there, by each state that they had."""
    if known.office is not None:
        return {}
    return {
        state: place
        for place in dict.fromkeys(known.ledger.states_now().values())
        if os.path.lexists(place)
        for state in known.ledger.states_at((place,))
    }


def _origin(item: Holding, known: Known, places: dict[str, str]) -> Origin:
    first = known.first_place(item.machine, item.origin)
    place = places.get(item.state)
    there = item.machine == known.here and (os.path.lexists(item.origin) or os.path.lexists(first))
    if place is not None and not there:  # restored from here, or renamed since
        return known.here, known.first_place(known.here, shown(place))
    if known.office is None and item.computer == known.name and os.path.lexists(item.origin):
        return known.here, known.first_place(known.here, item.origin)  # this computer lost what it knew of itself
    return item.machine, first


def _joined(groups: dict[Origin, list[Holding]], known: Known) -> list[tuple[Origin, list[Holding]]]:
    """Join what goes on under another folder, or on another computer, with the earlier one that is not there any more."""
    by_state: dict[str, Origin] = {}
    for own, group in groups.items():
        for item in group:
            if item.state:
                by_state.setdefault(item.state, own)
    became: dict[Origin, Origin] = {}

    def last(own: Origin) -> Origin:
        while own in became:
            own = became[own]
        return own

    for own, group in groups.items():
        for state in {state for item in group for state in item.follows.split()}:
            before = by_state.get(state)
            if before is None or before in became or _lives(before, known) or last(own) == before:
                continue
            became[before] = own
    for before in became:
        groups[last(before)] += groups[before]
    return [(own, group) for own, group in groups.items() if own not in became]


def _lives(own: Origin, known: Known) -> bool:
    """Whether a library is there under its own folder, as far as this computer can tell."""
    machine, place = own
    if machine != known.here:
        return False  # a computer that is elsewhere may be gone
    home = known.home_of(machine, place)
    return home is not None or os.path.lexists(place)
