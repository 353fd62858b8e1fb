"""Join an office and leave it: this computer's own ledger stays what it is, and goes on by itself at any time."""

from __future__ import annotations

from dunechest.errors import DuneChestError
from dunechest.jobs.office import membership as own
from dunechest.jobs.office.exchange import connected, send
from dunechest.jobs.office.membership import Membership
from dunechest.ledger.folder import state_folder
from dunechest.ledger.office.address import address_of
from dunechest.machine import secrets
from dunechest.model.office import Joined, Left
from dunechest.progress import Progress, silent


def join_office(
    address: str, secret: str | None = None, *, command: str | None = None, progress: Progress = silent
) -> Joined:
    """Join an office: all that this computer has noted is sent, and from now on what it notes.

    A computer that lost its own ledger gets back what it told the office before.

    Parameters
    ----------
    address : str
        From whoever looks after the server: ``postgresql+psycopg://ROLE@HOST/DATABASE``.
    secret : str, optional
        The password, to be kept in the system's keyring.
    command : str, optional
        A command that prints the password each time, instead of the keyring.
    progress : Progress
        Told how far it is.

    Raises
    ------
    UsageError
        If the address or the command is not understood, or there is no keyring to keep the password in.
    OfficeUnreachableError
        If the server does not answer, does not prove who it is, or does not let this computer in. Nothing was changed.
    OfficeError
        If the office does not know this computer. Nothing was changed.
    """
    from dunechest.ledger.office.send import bring_back

    office = Membership(address_of(address), own.words_of(command) if command is not None else ())
    before = secrets.from_keyring(office.account) if secret is not None else None
    if secret is not None and not office.command:
        secrets.to_keyring(office.account, secret)
    try:
        with connected(office) as (connection, computer):
            sent = send(connection, computer, progress)
            back = bring_back(connection, state_folder(), computer)
        own.remember(office)
    except BaseException:
        if secret is not None and not office.command:
            _take_back(office.account, before)
        raise
    return Joined(office.address.where, sent.event_count, sent.list_count, back)


def _take_back(account: str, before: str | None) -> None:
    """Leave the keyring as it was: a wrong password is not kept, and the one before is."""
    if before is None:
        secrets.forget(account)
    else:
        secrets.to_keyring(account, before)


def leave_office() -> Left:
    """Leave the office: this computer goes on with its own ledger alone. What it told the office stays there.

    What is not sent yet is sent first, if the server can be reached. The password is removed from the keyring.

    Raises
    ------
    UsageError
        If this computer belongs to no office.
    """
    from dunechest.ledger.office.send import bring_back

    office = own.membership()
    why, back = "", 0
    try:
        with connected(office) as (connection, computer):
            send(connection, computer)
            back = bring_back(connection, state_folder(), computer)
    except DuneChestError as error:
        why = str(error)
    own.forget()
    secrets.forget(office.account)
    return Left(office.address.where, not why, why, back)
