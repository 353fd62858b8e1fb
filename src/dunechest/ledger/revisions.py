"""The revisions that the tables of a ledger went through, told without Alembic, which takes long to load."""

from __future__ import annotations

#: The table in which Alembic writes down the revision of a ledger.
TABLE = "alembic_version"
REVISIONS = ("0001", "0002")
LAST = REVISIONS[-1]
