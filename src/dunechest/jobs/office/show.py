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

    `added_at` is when it was let in, `heard_at` when it last told something, None if it never did; `removed_at` when it was
    shut out, None if it was not. `this_computer` says whether it is this computer; `library_count` counts those that it has,
    `chest_count` those that it was the last to see.
    """

    _shown: ClassVar[tuple[str, ...]] = ("name", "heard_at")

    name: str
    this_computer: bool
    added_at: float
    heard_at: float | None
    removed_at: float | None
    library_count: int
    chest_count: int


class Office(Value, msgspec.Struct, frozen=True):
    """An office as this computer sees it.

    Parameters
    ----------
    where : str
        The database and its server.
    seen_at : float
        When it was asked (seconds since 1970).
    why : str
        Why it cannot be asked now; empty if it was.
    sent_at : float or None
        When this computer last told it all that was new.
    computers : tuple of OfficeComputer
        By name.
    """

    _shown: ClassVar[tuple[str, ...]] = ("where", "computers")
    _rows: ClassVar[str] = "computers"

    where: str
    seen_at: float
    why: str
    sent_at: float | None
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
