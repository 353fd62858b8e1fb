"""The computers of an office, and what of this one is still to be told."""

from __future__ import annotations

from dunechest.jobs.office.exchange import last_exchange
from dunechest.jobs.office.view import see_office
from dunechest.ledger.folder import state_folder
from dunechest.machine.identity import this_machine
from dunechest.model.office import Office, OfficeComputer


def show_office() -> Office:
    """Say which computers an office has, and when each was last heard of.

    Raises
    ------
    UsageError
        If this computer belongs to no office.
    OfficeUnreachableError
        If the server cannot be reached, and this computer never saw what it knows.
    OfficeError
        If the office does not know this computer.
    """
    seen = see_office()
    own = this_machine(state_folder()).id
    _, by_chest = seen.now.known()
    rows = seen.now.own_rows()
    computers = tuple(
        OfficeComputer(
            computer.name,
            computer.machine == own,
            computer.added,
            computer.heard,
            computer.removed,
            sum(not row["gone"] for row in rows[computer.number].of("seen")),
            sum(name == computer.name for name in by_chest.values()),
        )
        for computer in seen.now.computers
    )
    return Office(seen.where, seen.now.when, seen.why, last_exchange().sent, computers)
