"""The revisions that make and change the tables of a ledger, for Alembic, for SQLite and PostgreSQL alike."""
