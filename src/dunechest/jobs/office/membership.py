"""Whether this computer belongs to an office, where that has its ledger, and where the password is.

The settings hold the address and, if there is one, the command that prints the password; never the password itself::

    [ledger]
    url = "postgresql+psycopg://office-pc@ledger.example/office"
    password_command = ["show-password", "office"]
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from typing import TYPE_CHECKING

import msgspec

from dunechest.errors import UsageError
from dunechest.ledger.office.address import Address, address_of
from dunechest.ledger.settings import put_table, read_settings, settings_file, table_of
from dunechest.machine import secrets
from dunechest.names import shown

if TYPE_CHECKING:
    import sqlalchemy as sa

_TABLE = "ledger"
_KEYS = frozenset({"url", "password_command"})


class Membership(msgspec.Struct, frozen=True):
    """An office's ledger, and the command that prints the password; without one it is in the keyring, or none is needed."""

    address: Address
    command: tuple[str, ...] = ()

    @property
    def account(self) -> str:
        """Under what the keyring has the password."""
        return self.address.text.partition("?")[0]

    def password(self) -> str | None:
        """Return the password; None if there is none.

        Raises
        ------
        UsageError
            If the command that prints it fails.
        """
        return secrets.from_command(self.command) if self.command else secrets.from_keyring(self.account)


def has_office() -> bool:
    """Whether this computer belongs to an office; nothing of it is looked at."""
    return settings_file().is_file() and "url" in table_of(read_settings(), _TABLE)


def membership() -> Membership:
    """Return the office that this computer belongs to.

    Raises
    ------
    UsageError
        If it belongs to none, or the settings are not understood.
    """
    told = table_of(read_settings(), _TABLE)
    where = shown(str(settings_file()))
    odd = sorted(told.keys() - _KEYS)
    if odd:
        raise UsageError(f"{where}: ledger.{shown(odd[0])}: there is no such key. Keys: {', '.join(sorted(_KEYS))}.")
    url, command = told.get("url"), told.get("password_command", [])
    if url is None:
        raise UsageError("This computer belongs to no office. To join one: dunechest office join ADDRESS")
    if not isinstance(url, str):
        raise UsageError(f"{where}: ledger.url must be a text.")
    if not isinstance(command, list) or not all(isinstance(word, str) and word for word in command):
        raise UsageError(f'{where}: ledger.password_command must be a list of words: ["command", "argument"].')
    return Membership(address_of(url), tuple(command))


def remember(office: Membership) -> None:
    """Write down which office this computer belongs to."""
    values: dict[str, object] = {"url": office.address.text}
    if office.command:
        values["password_command"] = list(office.command)
    put_table(_TABLE, values)


def forget() -> None:
    """Belong to no office any more, as far as the settings say."""
    put_table(_TABLE, None)


@contextmanager
def opened(office: Membership, password: str | None = None) -> Iterator[sa.Connection]:
    """Open the office's ledger.

    Raises
    ------
    OfficeUnreachableError
        If the server does not answer, does not prove who it is, or does not let this computer in.
    OfficeError
        If it is in the form of another version.
    """
    from dunechest.ledger.office.connect import office_ledger

    with office_ledger(office.address, office.password() if password is None else password) as connection:
        yield connection


def words_of(text: str) -> tuple[str, ...]:
    """Return a command, as it is written in a shell, as words.

    Raises
    ------
    UsageError
        If its quotation marks do not fit.
    """
    import shlex

    try:
        words: Sequence[str] = shlex.split(text)
    except ValueError as error:
        raise UsageError(f"{shown(text)} is no command: {error}.") from error
    if not words:
        raise UsageError("The command that gives the password is empty.")
    return tuple(words)
