"""What all computers of an office know together, as a status is made of it."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

from msgspec.structs import replace

from dunechest.jobs.known.chests import list_chests
from dunechest.jobs.known.everything import Found, Known, first_places, found_here
from dunechest.jobs.known.homes import list_homes
from dunechest.jobs.office.view import Seen, computer_named, see_office
from dunechest.ledger.folder import state_folder
from dunechest.ledger.ledger import Ledger, PastHome, open_ledger
from dunechest.ledger.office.read import Computer, drive_in_office
from dunechest.machine.identity import this_machine
from dunechest.model.chests import ChestStatus
from dunechest.model.homes import Home
from dunechest.model.overview import OfficeSeen


def known_in_office(computer: str | None = None, seen: Seen | None = None) -> Known:
    """Return what the office knows.

    Parameters
    ----------
    computer : str, optional
        The only computer whose libraries are asked for.
    seen : Seen, optional
        What it knows, if it was asked already.

    Raises
    ------
    UsageError
        If this computer belongs to no office, or the office has no such computer.
    OfficeUnreachableError
        If the server cannot be reached, and this computer never saw what it knows.
    """
    seen = seen or see_office()
    now = seen.now
    only = computer_named(now, computer) if computer is not None else None
    own = this_machine(state_folder()).id
    rows, seen_by = now.known()
    ledger, own_rows = Ledger(rows), now.own_rows()
    here_number = next((item.number for item in now.computers if item.machine == own), 0)
    homes = tuple(_meant_in_office(home, here_number) for home in list_homes())
    moved = {own: first_places(homes)}
    with open_ledger() as here:
        found = list(found_here(here, own))
    for other in now.computers:
        if other.machine and other.machine != own and other.removed is None:
            theirs = Ledger(own_rows[other.number])
            past = tuple(_home(item, other) for item in theirs.homes())
            moved[other.machine] = first_places(past)
            homes += past
            gone = theirs.said_gone()
            found += [
                Found(other.name, other.machine, name, kind, place, place not in gone)
                for name, kind, place in theirs.seen_libraries()
            ]
    wanted = [item for item in found if only is None or item.machine == only.machine]
    return Known(
        ledger,
        office_chests(ledger, seen_by),
        own,
        tuple(wanted),
        homes,
        moved,
        {item.machine: item.name for item in now.computers if item.machine},
        only.machine if only is not None else None,
        OfficeSeen(
            seen.where,
            now.when,
            seen.why,
            only.name if only is not None else "",
            sum(item.removed is None for item in now.computers),
        ),
    )


def office_chests(ledger: Ledger, seen_by: Mapping[str, str], *, retired: bool = False) -> tuple[ChestStatus, ...]:
    """Return the chests that an office knows; those whose drives are connected to this computer are said to be."""
    here = {chest.id: chest for chest in list_chests().chests}
    found = []
    for past in ledger.chests():
        if past.retired is not None and not retired:
            continue
        chest = here.get(past.id)
        if chest is not None and chest.connected:
            seen = max(past.seen, chest.last_seen_at or 0.0)
            found.append(
                replace(
                    chest,
                    last_seen_at=seen,
                    retired_at=past.retired,
                    kept_at_place=past.place,
                    last_seen_by=seen_by.get(past.id, ""),
                )
            )
        else:
            found.append(
                ChestStatus(
                    past.id, past.label, past.folder, False, past.seen, None, past.retired, past.place,
                    seen_by.get(past.id, ""), past.address,
                )
            )  # fmt: skip
    return tuple(sorted(found, key=lambda chest: (not chest.connected, chest.label.casefold(), chest.id)))


def _home(past: PastHome, computer: Computer) -> Home:
    """Return a library that another computer moved, as that computer told it."""
    home = Home(
        past.name, past.kind, Path(past.old), Path(past.place), past.drive, False, past.way, past.when, past,
        computer=computer.name,
    )  # fmt: skip
    return _meant_in_office(home, computer.number)


def _meant_in_office(home: Home, computer: int) -> Home:
    """Return a moved library whose drive is told as the office tells drives apart."""
    return replace(home, past=replace(home.past, identity=drive_in_office(computer, home.past.identity)))
