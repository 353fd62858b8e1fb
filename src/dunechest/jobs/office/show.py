"""The computers of an office, and what of this one is still to be told."""

from __future__ import annotations

from typing import ClassVar

import msgspec

from dunechest.jobs.office.exchange import last_exchange
from dunechest.jobs.office.view import see_office
from dunechest.ledger.folder import state_folder
from dunechest.machine.identity import this_machine
from dunechest.values import Value


class OfficeComputer(Value, msgspec.Struct, frozen=True):
    """A computer of an office. Times are seconds since 1970.

    `added` is when it was let in, `heard` when it last told something, None if it never did; `removed` when it was shut out,
    None if it was not. `here` says whether it is this computer; `libraries` counts those that it has, `chests` those that it
    was the last to see.
    """

    _shown: ClassVar[tuple[str, ...]] = ("name", "heard")
    _document: ClassVar[str] = "office.Computer"

    name: str
    here: bool
    added: float
    heard: float | None
    removed: float | None
    libraries: int
    chests: int


class Office(Value, msgspec.Struct, frozen=True):
    """An office as this computer sees it.

    Parameters
    ----------
    where : str
        The database and its server.
    seen : float
        When it was asked (seconds since 1970).
    why : str
        Why it cannot be asked now; empty if it was.
    sent : float or None
        When this computer last told it all that was new.
    computers : tuple of OfficeComputer
        By name.
    """

    _shown: ClassVar[tuple[str, ...]] = ("where", "computers")
    _document: ClassVar[str] = "office.Office"

    where: str
    seen: float
    why: str
    sent: float | None
    computers: tuple[OfficeComputer, ...]


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
