"""Tell the office what this computer noted, and remember how that went."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING

import msgspec

from dunechest import clock
from dunechest.errors import DuneChestError
from dunechest.jobs.office.membership import Membership, has_office, membership, opened
from dunechest.ledger import events
from dunechest.ledger.folder import state_folder
from dunechest.ledger.ledger import open_ledger
from dunechest.ledger.rows import waiting
from dunechest.machine.identity import this_machine
from dunechest.model.office import Sent
from dunechest.names import shown
from dunechest.progress import Progress, Step, silent
from dunechest.transfer import safe

if TYPE_CHECKING:
    import sqlalchemy as sa

_FILE = "office.json"
#: Seconds. A server that did not answer is not asked again at the end of every command.
_PAUSE = 600.0
#: Seconds after which a person is told that the office hears nothing.
_LONG = 7 * 86_400.0


class Exchange(msgspec.Struct):
    """How sending went: moments in seconds since 1970, and why the last try failed; empty if it did not."""

    tried: float = 0.0
    sent: float | None = None
    failed: str = ""


def last_exchange() -> Exchange:
    """Return how sending went the last time."""
    try:
        return msgspec.json.decode(safe.read_bounded(state_folder() / _FILE, 1 << 16), type=Exchange)
    except (OSError, ValueError, msgspec.MsgspecError):
        return Exchange()


def send_to_office(*, progress: Progress = silent) -> Sent:
    """Tell the office what this computer noted since it last did, and which files lie in the chests that it met.

    Parameters
    ----------
    progress : Progress
        Told how far it is.

    Raises
    ------
    UsageError
        If this computer belongs to no office.
    OfficeUnreachableError
        If the server cannot be reached. Nothing is lost: it is sent the next time.
    OfficeError
        If the office does not know this computer, or does not take what it says.
    """
    with connected(membership()) as (connection, computer):
        return send(connection, computer, progress)


@contextmanager
def connected(office: Membership) -> Iterator[tuple[sa.Connection, int]]:
    """Open the office's ledger as this computer; how that goes is remembered. Yield the connection and the number there."""
    from dunechest.ledger.office.send import introduce

    now = clock.now()
    try:
        with opened(office) as connection:
            yield connection, introduce(connection, this_machine(state_folder()).id)
    except DuneChestError as error:
        _remember(Exchange(now, last_exchange().sent, str(error)))
        raise
    _remember(Exchange(now, now))


def send(connection: sa.Connection, computer: int, progress: Progress = silent) -> Sent:
    """Send what the office has not got."""
    from dunechest.ledger.catalogue import open_catalogue
    from dunechest.ledger.office.files import send_lists
    from dunechest.ledger.office.send import send_events

    _note_gone()
    count = send_events(connection, state_folder(), computer)
    try:
        with open_catalogue() as catalogue:

            def tell(name: str, files: int) -> None:
                progress(Step("sending-list", files, 0, 0, 0, name))

            lists = send_lists(connection, computer, this_machine(state_folder()).id, catalogue, tell)
    except DuneChestError as error:
        events.lost(str(error))  # a memory that can be filled again; what happened is sent
        lists = 0
    return Sent(count, lists)


def send_if_due() -> str:
    """Tell the office what is new, if there is anything; return why that failed, or nothing. Nobody waits long for it."""
    try:
        if not waiting(state_folder()) and not last_exchange().failed:
            return ""
        if not has_office():
            return ""
        last = last_exchange()
        if last.failed and 0 <= clock.now() - last.tried < _PAUSE:
            return ""
        send_to_office()
    except DuneChestError as error:
        return str(error)
    return ""


def told_long_ago() -> str:
    """Return why the office was not told anything for a week; empty if it was, or if there is no office."""
    last = last_exchange()
    if not last.failed or clock.now() - (last.sent or 0.0) < _LONG or not has_office():
        return ""
    return last.failed


def _note_gone() -> None:
    """Note which of the libraries that `find` showed are not there any more, or are there again: only this computer can see."""
    with open_ledger() as ledger:
        seen, gone = ledger.seen_libraries(), ledger.said_gone()
    changed = [
        ("seen", {"place": place, "name": name, "kind": kind, "gone": place not in gone})
        for name, kind, place in seen
        if os.path.lexists(place) == (place in gone)
    ]
    if changed:
        events.append_many(changed)


def _remember(exchange: Exchange) -> None:
    folder = state_folder()
    try:
        safe.write_file(folder / _FILE, msgspec.json.encode(exchange), mode=0o600)
    except OSError as error:
        events.lost(f"{shown(str(folder / _FILE))} cannot be written: {error.strerror}.")
