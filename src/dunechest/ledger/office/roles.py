"""What whoever looks after an office's server does: make the ledger, let computers in, shut one out."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from dunechest.errors import OfficeError, UsageError
from dunechest.ledger.office.address import SCHEMA
from dunechest.ledger.upgrade import upgrade
from dunechest.names import shown

if TYPE_CHECKING:
    import psycopg

_NAME = re.compile(r"[a-z0-9][a-z0-9-]{0,29}")
#: Connections at a time of one computer: a stolen password must not be enough to keep all others out.
_CONNECTIONS = 5


def set_up(connection: sa.Connection) -> bool:
    """Make the ledger of an office in a database, or bring it up to date; return whether anything was to be done."""
    connection.exec_driver_sql(f"CREATE SCHEMA IF NOT EXISTS {SCHEMA}")
    return upgrade(connection)


def role_of(connection: sa.Connection, name: str) -> str:
    """Return the role of a computer: roles are those of the whole server, where other offices may be, too.

    Raises
    ------
    UsageError
        If that is no name for a computer.
    """
    if _NAME.fullmatch(name) is None:
        raise UsageError(
            f"{shown(name)!r} is no name for a computer: up to 30 small letters, digits and hyphens, such as office-pc."
        )
    return f"{_database(connection)}-{name}"[:63]


def add_computer(connection: sa.Connection, name: str, password: str) -> str:
    """Let a computer in, or in again under a new password; return its role.

    Parameters
    ----------
    connection : sqlalchemy.Connection
        As the owner of the database.
    name : str
        What the office calls it.
    password : str
        Its password. The server gets what proves it, and never the password itself, so that it stands in no log.

    Raises
    ------
    UsageError
        If that is no name, or no password.
    OfficeError
        If the server has a role of that name that is none of the office's.
    """
    role = role_of(connection, name)
    if len(password) < 12:
        raise UsageError("A password has at least 12 characters.")
    from psycopg.sql import SQL, Identifier, Literal

    raw = _raw(connection)
    known = connection.scalar(sa.text("SELECT role FROM computers WHERE name = :name"), {"name": name})
    exists = connection.scalar(sa.text("SELECT 1 FROM pg_roles WHERE rolname = :role"), {"role": role})
    if exists and not known:
        raise OfficeError(f"The server has a role {shown(role)} already, and it is no computer of this office.")
    secret = raw.pgconn.encrypt_password(password.encode(), role.encode(), b"scram-sha-256").decode()
    how = "ALTER ROLE" if exists else "CREATE ROLE"
    with raw.cursor() as cursor:
        cursor.execute(
            SQL(
                how + " {} LOGIN NOSUPERUSER NOCREATEDB NOCREATEROLE NOREPLICATION CONNECTION LIMIT {} PASSWORD {}"
            ).format(Identifier(role), Literal(_CONNECTIONS), Literal(secret))
        )
        group = f"dunechest_{_database(connection)}"
        cursor.execute(SQL("GRANT {} TO {}").format(Identifier(group), Identifier(role)))
        cursor.execute(
            SQL("GRANT CONNECT ON DATABASE {} TO {}").format(Identifier(_database(connection)), Identifier(role))
        )
    # It may be another machine by now, under the old name.
    connection.execute(
        sa.text(
            "INSERT INTO computers (role, name) VALUES (:role, :name) ON CONFLICT (name) DO UPDATE "
            "SET removed = NULL, machine = NULL"
        ),
        {"role": role, "name": name},
    )
    return role


def remove_computer(connection: sa.Connection, name: str) -> None:
    """Shut a computer out: its role is removed, what it told stays.

    Raises
    ------
    UsageError
        If the office has no such computer.
    """
    role = connection.scalar(
        sa.text("UPDATE computers SET removed = extract(epoch FROM now()) WHERE name = :name RETURNING role"),
        {"name": name},
    )
    if role is None:
        known = ", ".join(connection.scalars(sa.text("SELECT name FROM computers ORDER BY name"))) or "none yet"
        raise UsageError(f"The office has no computer {shown(name)!r}. Its computers: {known}.")
    if not connection.scalar(sa.text("SELECT 1 FROM pg_roles WHERE rolname = :role"), {"role": role}):
        return
    from psycopg.sql import SQL, Identifier

    with _raw(connection).cursor() as cursor:
        cursor.execute(
            SQL("REVOKE CONNECT ON DATABASE {} FROM {}").format(Identifier(_database(connection)), Identifier(role))
        )
        cursor.execute(SQL("ALTER ROLE {} NOLOGIN").format(Identifier(role)))
    connection.execute(
        sa.text("SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE usename = :role"), {"role": role}
    )
    with _raw(connection).cursor() as cursor:
        cursor.execute(SQL("DROP ROLE {}").format(Identifier(role)))


def _database(connection: sa.Connection) -> str:
    return str(connection.scalar(sa.text("SELECT current_database()")))


def _raw(connection: sa.Connection) -> psycopg.Connection[Any]:
    raw: Any = connection.connection.dbapi_connection
    return raw  # type: ignore[no-any-return]
