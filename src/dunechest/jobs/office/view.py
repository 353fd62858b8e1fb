"""What the office knows: asked of its server, or, if that cannot be reached, as it was when it was last asked."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING

import msgspec

from dunechest import clock
from dunechest.errors import OfficeUnreachableError, UsageError
from dunechest.jobs.office.exchange import connected, send
from dunechest.jobs.office.membership import membership
from dunechest.ledger import events
from dunechest.ledger.folder import state_folder
from dunechest.ledger.office.read import OF_CHESTS, Computer, OfficeNow, read_office
from dunechest.names import meant, shown
from dunechest.transfer import safe

if TYPE_CHECKING:
    import sqlalchemy as sa

_FILE = "office-last-seen.json"
_MOST = 1 << 28


class Seen(msgspec.Struct, frozen=True):
    """What an office knows; `why` says why that is only what was known at `OfficeNow.when`, empty if it was asked just now."""

    where: str
    now: OfficeNow
    why: str = ""


def see_office() -> Seen:
    """Ask the office what it knows, after it was told what is new here.

    Raises
    ------
    UsageError
        If this computer belongs to no office.
    OfficeUnreachableError
        If the server cannot be reached, and this computer never saw what it knows.
    OfficeError
        If the office does not know this computer.
    """
    office = membership()
    try:
        with connected(office) as (connection, computer):
            send(connection, computer)
            now = read_office(connection, clock.now())
    except OfficeUnreachableError as error:
        last = _last(office.account)
        if last is None:
            raise
        return Seen(office.address.where, last, str(error))
    _keep(office.account, now)
    return Seen(office.address.where, now)


def last_seen() -> OfficeNow:
    """Return what the office knew when this computer asked last; nothing if it never did."""
    return _last(membership().account) or OfficeNow(0.0, (), ())


@contextmanager
def searching() -> Iterator[tuple[sa.Connection, OfficeNow]]:
    """Open the office's ledger for looking for files. The server must be there: only it has the lists of all computers.

    Raises
    ------
    UsageError
        If this computer belongs to no office.
    OfficeUnreachableError
        If the server cannot be reached.
    """
    with connected(membership()) as (connection, computer):
        send(connection, computer)
        yield connection, read_office(connection, clock.now(), OF_CHESTS)


def computer_named(now: OfficeNow, name: str) -> Computer:
    """Return a computer of the office.

    Raises
    ------
    UsageError
        If there is none of that name.
    """
    for computer in now.computers:
        if computer.name == name.casefold():
            return computer
    names = [computer.name for computer in now.computers]
    hint = meant(name, names)
    known = ", ".join(map(shown, names)) or "none yet"
    raise UsageError(f"The office has no computer {shown(name)!r}.{hint} Its computers: {known}.")


class _Kept(msgspec.Struct):
    account: str
    now: OfficeNow


def _keep(account: str, now: OfficeNow) -> None:
    folder = state_folder()
    try:
        safe.write_file(folder / _FILE, msgspec.json.encode(_Kept(account, now)), mode=0o600)
    except OSError as error:
        events.lost(f"{shown(str(folder / _FILE))} cannot be written: {error.strerror}.")


def _last(account: str) -> OfficeNow | None:
    try:
        kept = msgspec.json.decode(safe.read_bounded(state_folder() / _FILE, _MOST), type=_Kept)
    except (OSError, ValueError, msgspec.MsgspecError):
        return None
    return kept.now if kept.account == account else None
