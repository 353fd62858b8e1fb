"""Chests on servers: opened by their address or label, with the password from the keyring or a command.

The settings may hold, for a server, the command that prints its password; never the password itself::

    [servers."sftp://tern@backup.example"]
    password_command = ["show-password", "backup"]
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

from dunechest.errors import UsageError
from dunechest.jobs.known.chests import note_chest
from dunechest.jobs.known.this_computer import machine_name
from dunechest.ledger.folder import state_folder
from dunechest.ledger.settings import put_table, read_settings, settings_file, table_of
from dunechest.machine import secrets
from dunechest.names import shown
from dunechest.remote.address import Address, address_of

if TYPE_CHECKING:
    from dunechest.chest.chest import Chest
    from dunechest.remote.chest import ServerChest

_TABLE = "servers"


def open_server_chest(text: str, tell: Callable[[str], object] = lambda name: None) -> ServerChest:
    """Open a chest on a server by its address.

    Parameters
    ----------
    text : str
        The address.
    tell : callable
        Told which library's records are fetched.

    Raises
    ------
    UsageError
        If the address is none, or there is no chest.
    ServerError
        If the server does not answer, does not prove who it is, or does not let one in.
    """
    from dunechest.remote.chest import open_on_server

    address = address_of(text)
    return open_on_server(address, lambda: password_of(address), state_folder(), machine_name(), tell)


def create_server_chest(text: str, label: str, secret: str | None = None, command: Sequence[str] = ()) -> ServerChest:
    """Make a chest in a folder on a server; see `open_server_chest`.

    Parameters
    ----------
    text : str
        The address.
    label : str
        What to call it.
    secret : str, optional
        The server's password, to be kept in the system's keyring; by default the one that is known.
    command : sequence of str
        A command that prints the password each time, instead.
    """
    from dunechest.remote.chest import create_on_server

    address = address_of(text)
    given = secrets.from_command(command) if command else secret
    chest = create_on_server(address, given if given is not None else password_of(address), label, state_folder())
    keep_password(address, secret, command)
    return chest


def remember_server(text: str, secret: str | None = None, command: Sequence[str] = ()) -> Chest:
    """Keep the password of a server, once it has let this computer in, and open the chest there.

    Parameters
    ----------
    text : str
        The chest's address.
    secret : str, optional
        The password, to be kept in the system's keyring.
    command : sequence of str
        A command that prints the password each time, instead.

    Raises
    ------
    UsageError
        If the address is none, there is no chest, or there is no keyring.
    ServerError
        If the server does not answer, does not prove who it is, or does not let one in. Nothing was kept.
    """
    from dunechest.remote.chest import open_on_server

    address = address_of(text)
    given = secrets.from_command(command) if command else secret
    chest = open_on_server(
        address, lambda: given if given is not None else password_of(address), state_folder(), machine_name()
    )
    keep_password(address, secret, command)
    note_chest(chest)
    return chest


def keep_password(address: Address, secret: str | None, command: Sequence[str] = ()) -> None:
    """Keep a password in the keyring, or the command that prints it in the settings."""
    if command:
        remember_command(address, command)
    elif secret is not None:
        secrets.to_keyring(address.account, secret)


def password_of(address: Address) -> str | None:
    """Return the password of a server; None if nobody gave one.

    Raises
    ------
    UsageError
        If the settings are not understood, or the command that prints it fails.
    """
    told = table_of(read_settings(), _TABLE).get(address.account, {})
    command = told.get("password_command") if isinstance(told, dict) else None
    if command is None:
        return secrets.from_keyring(address.account)
    if not isinstance(command, list) or not command or not all(isinstance(word, str) and word for word in command):
        where = f'{shown(str(settings_file()))}: {_TABLE}."{shown(address.account)}".password_command'
        raise UsageError(f'{where} must be a list of words: ["command", "argument"].')
    return secrets.from_command(command)


def remember_command(address: Address, command: Sequence[str]) -> None:
    """Write down the command that prints the password of a server."""
    told = dict(table_of(read_settings(), _TABLE))
    told[address.account] = {"password_command": list(command)}
    put_table(_TABLE, told)
