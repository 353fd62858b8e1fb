"""Chests on servers: opened by their address or label, with the password from the keyring or a command.

The settings may hold, for a server, the command that prints its password; never the password itself::

    [servers."sftp://tern@backup.example"]
    password_command = ["show-password", "backup"]
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

from dunechest.errors import UsageError
from dunechest.jobs.here import machine_name
from dunechest.jobs.settings import put_table, read_settings, settings_file, table_of
from dunechest.ledger.folder import state_folder
from dunechest.machine import secrets
from dunechest.names import shown
from dunechest.remote.address import Address, address_of

if TYPE_CHECKING:
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


def create_server_chest(text: str, label: str, secret: str | None = None) -> ServerChest:
    """Make a chest in a folder on a server; see `open_server_chest`.

    Parameters
    ----------
    text : str
        The address.
    label : str
        What to call it.
    secret : str, optional
        The server's password, if it is not the one that is known.
    """
    from dunechest.remote.chest import create_on_server

    address = address_of(text)
    return create_on_server(address, secret if secret is not None else password_of(address), label, state_folder())


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
