"""What a status is made of: what this computer knows by itself, or what all computers of an office know."""

from __future__ import annotations

import os
from collections.abc import Iterable
from contextlib import suppress

import msgspec

from dunechest.chest.layout import BAGS
from dunechest.jobs.known.chests import list_chests
from dunechest.jobs.known.clones import one_of_each
from dunechest.jobs.known.homes import list_homes
from dunechest.jobs.known.logs import look_into_log
from dunechest.ledger import events
from dunechest.ledger.folder import state_folder
from dunechest.ledger.ledger import Ledger, open_ledger
from dunechest.machine.identity import this_machine
from dunechest.model.chests import ChestStatus
from dunechest.model.homes import Home
from dunechest.model.overview import OfficeSeen, ProtectedLibrary
from dunechest.names import shown


class Found(msgspec.Struct, frozen=True):
    """A library that `find` showed: its computer (the name is empty for this one, the id is its own), and whether it is there."""

    computer: str
    machine: str
    name: str
    kind: str
    place: str
    there: bool


class Known(msgspec.Struct):
    """What is known of chests and libraries.

    Parameters
    ----------
    ledger : Ledger
        Of chests.
    chests : tuple of ChestStatus
        Those that are expected.
    here : str
        The id of this computer.
    found : tuple of Found
        Libraries that `find` showed.
    homes : tuple of Home
        Libraries that were moved to drives.
    moved : dict
        By the id of a computer: where each of its moved libraries was at first, by where it is; both made safe to show.
    names : dict
        What the office calls its computers, by id.
    only : str, optional
        The id of the only computer whose libraries are asked for.
    office : OfficeSeen, optional
        The office that knows this.
    name : str
        What this computer is called; empty if an office knows this.
    """

    ledger: Ledger
    chests: tuple[ChestStatus, ...]
    here: str
    found: tuple[Found, ...]
    homes: tuple[Home, ...]
    moved: dict[str, dict[str, str]]
    names: dict[str, str] = msgspec.field(default_factory=dict)
    only: str | None = None
    office: OfficeSeen | None = None
    name: str = ""

    @property
    def own_homes(self) -> tuple[Home, ...]:
        """The libraries that this computer moved to drives."""
        return tuple(home for home in self.homes if not home.computer)

    def first_place(self, machine: str, place: str) -> str:
        """Return where a library of a computer was before it was moved, if it was."""
        return self.moved.get(machine, {}).get(place, place)

    def home_of(self, machine: str, place: str) -> Home | None:
        """Return the moved library that was, or is, in a place of a computer."""
        first = self.first_place(machine, place)
        name = "" if machine == self.here else self.names.get(machine, machine)
        return next(
            (home for home in self.homes if home.computer == name and shown(str(home.old_path)) == first), None
        )

    def shown_chests(self, libraries: Iterable[ProtectedLibrary]) -> tuple[ChestStatus, ...]:
        """Return the chests to show: of one computer of an office only those that hold its libraries."""
        if self.only is None:
            return self.chests
        held = {copy.chest_id for library in libraries for copy in library.copies}
        return tuple(chest for chest in self.chests if chest.id in held)


def first_places(homes: Iterable[Home]) -> dict[str, str]:
    """Return where each moved library was at first, by where it is; both made safe to show."""
    return {shown(place): shown(str(home.old_path)) for home in homes for place in (str(home.path), home.past.place)}


def known_here() -> Known:
    """Return what this computer knows by itself."""
    chests = tuple(known for known in list_chests().chests if known.retired_at is None)
    with open_ledger() as ledger:
        each = one_of_each(chests, ledger)
    for known in each:
        if known.connected:
            look_into_log(known.path)
    homes = list_homes()
    _note_gone(chests)
    own = this_machine(state_folder())
    here = own.id
    with open_ledger() as ledger:
        moved = {here: first_places(homes)}
        return Known(ledger, chests, here, found_here(ledger, here), homes, moved, name=own.name)


def _note_gone(chests: Iterable[ChestStatus]) -> None:
    """Note what is no longer in chests that are connected: a look at the names of their bags tells."""
    with open_ledger() as ledger:
        there: dict[str, set[str]] = {}
        # Of two chests with one id, one of them copied by hand, the one that is known counts.
        for chest in one_of_each(chests, ledger):
            if chest.connected:
                with suppress(OSError):
                    there[chest.id] = set(os.listdir(chest.path / BAGS))
        gone = [
            ("hold", {"chest": item.chest, "bag": item.bag, "gone": True})
            for item in ledger.holdings()
            if item.chest in there and item.bag not in there[item.chest] and item.name and not item.gone
        ]
    if gone:
        events.try_append(*gone)


def found_here(ledger: Ledger, here: str) -> tuple[Found, ...]:
    """Return the libraries that `find` showed on this computer, without originals that were set aside."""
    asides = {aside.path for aside in ledger.asides()}
    return tuple(
        Found("", here, name, kind, place, os.path.lexists(place))
        for name, kind, place in ledger.seen_libraries()
        if place not in asides
    )
