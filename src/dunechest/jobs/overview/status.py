"""How well each library is protected, as far as this computer knows. No drive need be connected."""

from __future__ import annotations

import os
from collections import defaultdict
from collections.abc import Collection, Iterable
from pathlib import Path
from typing import TYPE_CHECKING

from dunechest.jobs.known.clones import called, of_clones, one_of_each
from dunechest.jobs.known.copies import copies_of
from dunechest.jobs.known.everything import Known, known_here
from dunechest.jobs.known.loose import ignored_places, is_ignored
from dunechest.jobs.known.protection import read_rules
from dunechest.jobs.overview.next_steps import Lies, Naming, next_steps
from dunechest.jobs.overview.other_steps import (
    of_clock,
    of_harmed,
    of_loose,
    of_moved,
    of_office,
    of_put_back,
    of_routines,
    of_strangers,
    refused,
)
from dunechest.ledger.folder import state_folder
from dunechest.ledger.ledger import PastLoose
from dunechest.machine.drives import drive_identity
from dunechest.machine.physical import physical
from dunechest.model.chests import ChestStatus
from dunechest.model.overview import NextStep, ProtectedLibrary, Status, Unprotected
from dunechest.names import shown, slug
from dunechest.paths import prefix_of

if TYPE_CHECKING:
    from dunechest.model.routine import RoutineState

_DAY, _HOUR = 86_400.0, 3600.0


def status(*, office: bool = False, computer: str | None = None, everyone: bool = False) -> Status:
    """Say how well each library is protected, from what this computer has seen.

    Parameters
    ----------
    office : bool
        Answer from what all computers of the office have seen, for the libraries of all of them. The rules are those in the
        settings of this computer.
    computer : str, optional
        Only for the libraries of this computer of the office.
    everyone : bool
        For the libraries of all computers that this one heard of through drives, too.

    Returns
    -------
    Status
        Nothing on a drive is read: what changed there since is not known.

    Raises
    ------
    UsageError
        If the rules in the settings cannot be understood, or this computer belongs to no office that is asked for.
    OfficeUnreachableError
        If the office's server cannot be reached, and this computer never saw what it knows.
    """
    rules = read_rules()
    known = _known(computer) if office or computer is not None else known_here()
    every = sorted(copies_of(known, rules), key=lambda pair: (pair[0].safe, pair[0].name))
    libraries = tuple(pair for pair in every if everyone or known.office is not None or pair[0].on_this_computer)
    archived = {(machine, known.first_place(machine, library.path)) for library, machine in libraries}
    ignored = ignored_places() if known.office is None else frozenset()
    loose = _loose(known, archived, ignored)
    unprotected = tuple(_never_archived(known, archived, ignored, loose))
    protected = tuple(
        library for library, _ in libraries if not (library.on_this_computer and is_ignored(library.path, ignored))
    )
    routines = _routines() if known.office is None else ()
    steps = (
        *of_moved(known.own_homes),
        *of_routines(routines),
        *_steps(known, protected, unprotected),
        *of_loose([folder for folder in loose if not folder.standard]),
    )
    chests = known.shown_chests(protected)
    elsewhere = len(every) - len(libraries)
    return Status(
        protected, unprotected, steps, chests, known.homes, routines, known.office, elsewhere, len(known.ledger.harmed()),
    )  # fmt: skip


def _steps(
    known: Known, protected: tuple[ProtectedLibrary, ...], unprotected: tuple[Unprotected, ...]
) -> tuple[NextStep, ...]:
    """Return what to do about what is known: of the office, the clock, the records, the chests and the libraries."""
    chests = one_of_each(known.chests, known.ledger)
    return (
        *of_office(),
        *of_clock(known),
        *of_put_back(known),
        *of_harmed(known),
        *of_clones(known.chests, known.ledger),
        *next_steps(
            protected,
            unprotected,
            chests,
            _naming(known, chests),
            _lies(known, chests, protected),
            refused(known),
        ),
        *of_strangers(protected, known),
    )


def _known(computer: str | None) -> Known:
    """Return what the office knows; who has none does not wait for what that needs to be loaded."""
    from dunechest.jobs.office.known import known_in_office

    return known_in_office(computer)


def _never_archived(
    known: Known, archived: Collection[tuple[str, str]], ignored: Collection[str], loose: Iterable[PastLoose]
) -> Iterable[Unprotected]:
    """Return what was found and is in no chest: libraries, and standard folders with files in no library."""
    seconds = {(known.here, str(home.second.path)) for home in known.own_homes if home.second is not None}
    never: dict[tuple[str, str], Unprotected] = {}
    whole = {place for machine, place in archived if machine == known.here}
    for found in known.found:
        if not found.computer and (is_ignored(found.place, ignored) or _is_inside(shown(found.place), whole)):
            continue  # a library inside an archived one is archived
        own = known.first_place(found.machine, shown(found.place))
        moved = shown(found.place) in known.moved.get(found.machine, {})
        if (found.machine, own) in archived or (found.machine, found.place) in seconds or not (found.there or moved):
            continue
        never[found.machine, own] = Unprotected(found.name, found.kind, found.place, found.computer)
    for folder in loose:
        if folder.standard:
            name = slug(Path(folder.place).name)
            never.setdefault((known.here, folder.place), Unprotected(name, "files in no library", folder.place))
    return never.values()


def _routines() -> tuple[RoutineState, ...]:
    """Return how the routines do; who has none does not wait for what they need to be loaded."""
    if not (state_folder() / "routines").is_dir():
        return ()
    from dunechest.jobs.routine import list_routines

    return list_routines(ask_scheduler=False)


def _lies(known: Known, chests: Iterable[ChestStatus], libraries: Iterable[ProtectedLibrary]) -> dict[str, Lies]:
    """Return where chests lie, by id, and libraries of this computer, by folder: as they are now, or as they were last."""
    found: dict[str, Lies] = {}
    for library in libraries:
        for copy in library.copies:
            weak = "" if copy.weak == "library-disk" else copy.weak
            found.setdefault(copy.chest_id, Lies(copy.marks, weak))
    for chest in chests:
        if chest.connected and known.office is None:
            try:
                lies = physical(chest.path)
            except OSError:
                continue
            drive = drive_identity(chest.path) or chest.id
            marks = frozenset({drive, *(f"disk {disk}" for disk in lies.disks)})
            found[chest.id] = Lies(marks, lies.weakness, lies.names)
    if not any(lies.names for lies in found.values()):
        return found
    for library in libraries:
        if library.on_this_computer and not library.safe and library.there:
            try:
                found[library.path] = Lies(frozenset(), "", physical(Path(library.path)).names)
            except OSError:
                continue
    return found


def _is_inside(place: str, folders: Iterable[str]) -> bool:
    return any(place.startswith(prefix_of(folder)) for folder in folders)


def _loose(known: Known, archived: Iterable[tuple[str, str]], ignored: Collection[str]) -> list[PastLoose]:
    """Return the folders with files in no library that are in no chest either, as far as they are there."""
    if known.office is not None:
        return []
    whole = {place for machine, place in archived if machine == known.here}
    return [
        folder
        for folder in known.ledger.loose()
        if os.path.isdir(folder.place)
        and shown(folder.place) not in whole
        and not _is_inside(shown(folder.place), whole)
        and not is_ignored(folder.place, ignored)
    ]


def _naming(known: Known, chests: Iterable[ChestStatus]) -> Naming:
    """Return what commands can call libraries and chests, and what lies in each."""
    taken: dict[str, set[str]] = defaultdict(set)
    for item in known.ledger.holdings():
        if not item.gone:
            taken[item.chest].add(item.bag)
    return Naming(_called(known), {chest.id: called(chest, known.chests) for chest in chests}, taken)


def _called(known: Known) -> dict[str, str]:
    """Return what a command can call each library of this computer, by its folder: its name, where only one has it."""
    places: dict[str, dict[str, list[str]]] = defaultdict(dict)
    for found in known.found:
        if found.machine == known.here and os.path.exists(
            found.place
        ):  # a link of a move leads to the library itself
            places[found.name].setdefault(os.path.realpath(found.place), []).append(found.place)
    return {
        shown(place): name
        for name, found_there in places.items()
        if len(found_there) == 1 and not os.path.lexists(name)
        for own in found_there.values()
        for place in own
    }
