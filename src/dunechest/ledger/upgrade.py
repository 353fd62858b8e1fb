"""Bring the tables of a ledger to the form of this version, with Alembic."""

from __future__ import annotations

from pathlib import Path

import sqlalchemy as sa

from dunechest.errors import ChestUnusableError
from dunechest.ledger.revisions import LAST, REVISIONS, TABLE


def revision_of(connection: sa.Connection) -> str:
    """Return the revision of a ledger; empty if it has none yet.

    Raises
    ------
    ChestUnusableError
        If a later version of Dune Chest made it.
    """
    if not sa.inspect(connection).has_table(TABLE):
        return ""
    found = str(connection.exec_driver_sql(f"SELECT version_num FROM {TABLE}").scalar() or "")  # noqa: S608 - our own name
    if found and found not in REVISIONS:
        raise ChestUnusableError(
            "It was written by a later version of Dune Chest. Install that version; nothing was changed."
        )
    return found


def upgrade(connection: sa.Connection) -> bool:
    """Bring a ledger up to date within the transaction of a connection; return whether that changed it.

    Raises
    ------
    ChestUnusableError
        If a later version of Dune Chest made it.
    """
    if revision_of(connection) == LAST:
        return False
    from alembic import command
    from alembic.config import Config

    config = Config()
    config.set_main_option("script_location", str(Path(__file__).with_name("migrations")).replace("%", "%%"))
    config.set_main_option("path_separator", "os")
    config.attributes["connection"] = connection
    command.upgrade(config, "head")
    return True
