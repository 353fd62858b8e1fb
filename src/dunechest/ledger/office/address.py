"""Where an office's ledger is: an address without a password, to which nothing is said before the server proved who it is."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING, Any

import msgspec

from dunechest.errors import PackageMissingError, UsageError
from dunechest.names import shown

if TYPE_CHECKING:
    import sqlalchemy as sa

_DRIVER = "postgresql+psycopg"
_KNOWN = frozenset({"host", "port", "sslmode", "sslrootcert"})
#: That character in JSON; not a backslash that is followed by the same letters.
_ZERO = re.compile(rb"(?<!\\)((?:\\\\)*)\\u0000")
#: Seconds that a server has to answer.
_PATIENCE = 5
SCHEMA = "dunechest"
EXAMPLE = "postgresql+psycopg://office-pc@ledger.example/office"


class Address(msgspec.Struct, frozen=True):
    """Where a ledger is, and as whom one speaks to it. There is no password in it."""

    text: str
    role: str
    host: str
    database: str

    @property
    def where(self) -> str:
        """The database and its server, made safe to show."""
        return shown(f"{self.database} on {self.host or 'this computer'}")


def address_of(text: str) -> Address:
    """Read the address of an office's ledger.

    Parameters
    ----------
    text : str
        ``postgresql+psycopg://ROLE@HOST/DATABASE``; ``?host=/FOLDER`` names the folder of a socket on this computer, and
        ``?sslrootcert=FILE`` the certificate of whoever vouches for the server.

    Raises
    ------
    UsageError
        If it is not one, has a password in it, or asks for a connection on which a server need not prove who it is.
    PackageMissingError
        If what speaks to PostgreSQL is not installed.
    """
    url = _parsed(text)
    if url.password is not None:
        raise UsageError(
            "The address has a password in it, where others could read it. Leave it out: the password is asked for and "
            "kept in the system's keyring. Nothing was written down."
        )
    host = url.query.get("host", url.host) or ""
    if not isinstance(host, str) or not url.username or not url.database:
        raise UsageError(f"{_shown(text)} does not name a role, a server and a database. An example: {EXAMPLE}")
    return Address(text, url.username, host, url.database)


def _shown(text: str) -> str:
    return shown(text.partition("?")[0])


def _parsed(text: str) -> sa.URL:
    import sqlalchemy as sa

    try:
        url = sa.make_url(text)
    except (sa.exc.ArgumentError, ValueError):
        # The text itself may hold a password.
        raise UsageError(f"This is no address of an office's ledger. An example: {EXAMPLE}") from None
    if url.drivername not in ("postgresql", _DRIVER):
        raise UsageError(f"An office's ledger is a PostgreSQL database. An example of its address: {EXAMPLE}")
    odd = sorted(url.query.keys() - _KNOWN)
    if odd:
        raise UsageError(
            f"The address says {shown(odd[0])}, which is not understood. It may say: {', '.join(sorted(_KNOWN))}."
        )
    if url.query.get("sslmode", "verify-full") != "verify-full":
        raise UsageError(
            "The address asks for a connection on which the server need not prove who it is. Leave sslmode out: the server's "
            "certificate is always checked. A certificate of your own is named with sslrootcert=FILE."
        )
    return url.set(drivername=_DRIVER)


def engine_for(address: Address, password: str | None) -> sa.Engine:
    """Return what opens connections to an office's ledger. The password is nowhere but in this process's memory.

    Raises
    ------
    PackageMissingError
        If what speaks to PostgreSQL is not installed.
    """
    import sqlalchemy as sa

    try:
        import psycopg
    except ImportError as error:
        raise PackageMissingError(
            "An office's ledger needs another package: pip install 'dunechest[office]'"
        ) from error
    from psycopg.types.json import set_json_dumps, set_json_loads

    url = _parsed(address.text)

    def make() -> Any:
        # A socket of this computer knows no certificates; for it libpq passes the mode over.
        how: dict[str, Any] = {
            "host": url.query.get("host", url.host) or None,
            "port": url.query.get("port", url.port) or None,
            "user": url.username,
            "dbname": url.database,
            "sslmode": "verify-full",
            "sslrootcert": url.query.get("sslrootcert"),
            "gssencmode": "disable",
            "connect_timeout": _PATIENCE,
            "application_name": "dunechest",
            "options": f"-c search_path={SCHEMA}",
            "password": password,
        }
        connection = psycopg.connect(**{name: value for name, value in how.items() if value is not None})
        set_json_loads(msgspec.json.decode, connection)
        set_json_dumps(_json, connection)
        return connection

    return sa.create_engine(f"{_DRIVER}://", creator=make, poolclass=sa.pool.NullPool)


def _json(value: object) -> bytes:
    """Write JSON as the server takes it: without the character of the number zero, which a name on a hostile drive may hold."""
    return _ZERO.sub(rb"\1\\ufffd", msgspec.json.encode(value))
