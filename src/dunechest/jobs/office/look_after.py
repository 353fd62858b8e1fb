"""For whoever looks after an office's server: make the ledger, let computers in, shut one out."""

from __future__ import annotations

from dunechest.ledger.office.address import address_of
from dunechest.model.office import ComputerAdded, OfficeMade


def set_up_office(address: str, password: str | None = None) -> OfficeMade:
    """Make the ledger of an office in a PostgreSQL database, or bring it up to date. Nothing that is in it is lost.

    Parameters
    ----------
    address : str
        ``postgresql+psycopg://OWNER@HOST/DATABASE``: the database is there already, and OWNER may make roles.
    password : str, optional
        The owner's, if the server asks for one.

    Raises
    ------
    UsageError
        If the address is not understood.
    OfficeUnreachableError
        If the server does not answer, or not to this owner.
    OfficeError
        If the owner may not do that.
    """
    from dunechest.ledger.office.connect import office_ledger
    from dunechest.ledger.office.roles import set_up

    place = address_of(address)
    with office_ledger(place, password, current=False) as connection:
        return OfficeMade(place.where, set_up(connection))


def add_office_computer(address: str, name: str, secret: str, password: str | None = None) -> ComputerAdded:
    """Let a computer into an office, or in again under a new password.

    Parameters
    ----------
    address : str
        The office's ledger, as its owner: see `set_up_office`.
    name : str
        What the office calls the computer: small letters, digits and hyphens.
    secret : str
        The password that the computer will have, of 12 characters at least.
    password : str, optional
        The owner's, if the server asks for one.

    Raises
    ------
    UsageError
        If the address, the name or the secret will not do.
    OfficeUnreachableError
        If the server does not answer, or not to this owner.
    OfficeError
        If the owner may not do that.
    """
    from dunechest.ledger.office.connect import office_ledger
    from dunechest.ledger.office.roles import add_computer

    place = address_of(address)
    with office_ledger(place, password) as connection:
        role = add_computer(connection, name, secret)
    head, _, rest = address.partition("://")
    return ComputerAdded(name, role, f"{head}://{role}@{rest.rpartition('@')[2]}")


def remove_office_computer(address: str, name: str, password: str | None = None) -> None:
    """Shut a computer out of an office: it is stolen, sold or broken. What it told the office stays.

    Parameters
    ----------
    address : str
        The office's ledger, as its owner: see `set_up_office`.
    name : str
        What the office calls the computer.
    password : str, optional
        The owner's, if the server asks for one.

    Raises
    ------
    UsageError
        If there is no such computer.
    OfficeUnreachableError
        If the server does not answer, or not to this owner.
    OfficeError
        If the owner may not do that.
    """
    from dunechest.ledger.office.connect import office_ledger
    from dunechest.ledger.office.roles import remove_computer

    with office_ledger(address_of(address), password) as connection:
        remove_computer(connection, name)
