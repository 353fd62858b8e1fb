"""All that is known of libraries, drives and time: what a report is made of. No drive need be connected."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from dunechest import clock
from dunechest.errors import DuneChestError, OfficeUnreachableError
from dunechest.jobs.overview.status import status
from dunechest.ledger.catalogue import open_catalogue
from dunechest.ledger.catalogue_rows import History, PastEdition
from dunechest.ledger.folder import state_folder
from dunechest.ledger.ledger import PastRoom, open_ledger
from dunechest.machine.drives import filesystem
from dunechest.machine.identity import this_machine
from dunechest.model.chests import ChestStatus
from dunechest.model.overview import DriveRoom, Growth, LibraryHistory, Overview, ProtectedLibrary, Status

_DAY = 86_400.0
#: How a drive fills is told from what came to it in so many days,
_SPAN = 365
#: and not before its libraries have been archived for so many.
_SHORTEST = 14
#: A drive that has room for so many days is called roomy, and no day is named.
_FAR = 20 * 365


def overview(*, office: bool = False, computer: str | None = None, everyone: bool = False) -> Overview:
    """Say what is safe, and how libraries and drives have grown.

    Parameters
    ----------
    office : bool
        Say it of all computers of the office.
    computer : str, optional
        Say it of this computer of the office.
    everyone : bool
        Say it of all computers that this one heard of through drives.

    Returns
    -------
    Overview
        From what this computer has seen; no drive is read, but those that are connected are asked for their free space.

    Raises
    ------
    UsageError
        If the rules in the settings cannot be understood.
    DuneChestError
        If the ledger cannot be used.
    """
    result = status(office=office, computer=computer, everyone=everyone)
    if result.office is not None:
        return _of_office(result)
    note = ""
    known: tuple[History, ...] = ()
    try:
        with open_catalogue() as catalogue:
            known = catalogue.histories()
    except DuneChestError as error:
        note = str(error)
    with open_ledger() as ledger:
        rooms = ledger.rooms()
    return Overview(
        clock.now(),
        this_machine(state_folder()).name,
        result,
        tuple(_histories(result.libraries, known)),
        tuple(_drive(chest, [item for item in known if item.chest == chest.id], rooms) for chest in result.chests),
        note,
    )


def _of_office(result: Status) -> Overview:
    """Say it of an office: how full drives were is what any computer told last."""
    from dunechest.jobs.office.view import last_seen, searching
    from dunechest.ledger.ledger import Ledger
    from dunechest.ledger.office.files import listings_of, office_histories

    known: tuple[History, ...] = ()
    note = ""
    try:
        with searching() as (connection, now):
            listings = listings_of(connection, {item.number: item.machine for item in now.computers})
            known = office_histories(connection, listings)
    except OfficeUnreachableError as error:
        note = str(error)
    rooms = Ledger(last_seen().known()[0]).rooms()
    assert result.office is not None
    return Overview(
        clock.now(),
        result.office.computer or result.office.where,
        result,
        tuple(_histories(result.libraries, known)),
        tuple(_drive(chest, [item for item in known if item.chest == chest.id], rooms) for chest in result.chests),
        note,
    )


def _histories(libraries: Iterable[ProtectedLibrary], known: Iterable[History]) -> Iterable[LibraryHistory]:
    """Yield the longest history that is known of each library."""
    by_bag = {(item.chest, item.bag): item for item in known}
    for library in libraries:
        own = [
            (copy, by_bag[copy.chest_id, copy.archived_as])
            for copy in library.copies
            if (copy.chest_id, copy.archived_as) in by_bag
        ]
        if own:
            copy, longest = max(own, key=lambda pair: (len(pair[1].editions), pair[0].archived_at))
            newest = max(own, key=lambda pair: pair[0].archived_at)[1]
            yield LibraryHistory(library.name, copy.label, copy.archived_as, longest.editions, newest.roles)


def _drive(chest: ChestStatus, known: Sequence[History], rooms: dict[str, PastRoom]) -> DriveRoom:
    room = _room(chest) or rooms.get(chest.id)
    editions = sorted((edition for item in known for edition in item.editions), key=lambda item: item.archived_at)
    grown: list[Growth] = []
    for edition in editions:
        grown.append(Growth(edition.archived_at, (grown[-1].size_bytes if grown else 0) + edition.added_bytes))
    daily = _daily(editions)
    full = None
    if room is not None and daily:
        days = room.free / daily
        full = room.when + days * _DAY if days < _FAR else None
    return DriveRoom(
        chest.label,
        chest.id,
        chest.kept_at_place,
        room.when if room is not None else None,
        room.free if room is not None else None,
        room.total if room is not None else None,
        tuple(grown),
        daily,
        full,
    )


def _room(chest: ChestStatus) -> PastRoom | None:
    """Ask a drive that is connected."""
    if not chest.connected:
        return None
    try:
        drive = filesystem(chest.path)
    except OSError:
        return None
    return PastRoom(drive.free, drive.total, clock.now())


def _daily(editions: Sequence[PastEdition]) -> float | None:
    """Return the bytes that came in a day: those of first editions, which come once, do not count."""
    now = clock.now()
    known_for = (now - editions[0].archived_at) / _DAY if editions else 0.0
    if known_for < _SHORTEST:
        return None
    span = min(known_for, _SPAN)
    later = [item for item in editions if not item.first and now - item.archived_at <= span * _DAY]
    return sum(item.added_bytes for item in later) / span
