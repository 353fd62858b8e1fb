"""What the ledger of an office has beside the log (PostgreSQL alone): its computers, what each may do, and lists of files.

A computer is a role of the server. It reads everything, adds events and lists of files under its own number, and changes
nobody's. What holds of a row is worked out for each computer by itself, by a function that no computer can go around.
"""

from __future__ import annotations

import sqlalchemy as sa
from alembic import op

revision = "0002"
down_revision = "0001"

#: Lists of files are spread over so many tables.
_PARTS = 16

_COMPUTERS = """
CREATE TABLE computers (
    number integer GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    role text NOT NULL UNIQUE,
    name text NOT NULL UNIQUE,
    machine text UNIQUE,
    added double precision NOT NULL DEFAULT extract(epoch FROM clock_timestamp()),
    removed double precision,
    heard double precision
);
CREATE FUNCTION own_computer() RETURNS integer
LANGUAGE sql STABLE SECURITY DEFINER SET search_path = {schema}, pg_temp AS $$
    SELECT number FROM computers WHERE role = session_user AND removed IS NULL
$$;
CREATE FUNCTION introduce(own text) RETURNS integer
LANGUAGE plpgsql SECURITY DEFINER SET search_path = {schema}, pg_temp AS $$
DECLARE found integer;
BEGIN
    UPDATE computers SET machine = own, heard = extract(epoch FROM clock_timestamp())
    WHERE role = session_user AND removed IS NULL AND (machine IS NULL OR machine = own) AND length(own) BETWEEN 8 AND 64
    RETURNING number INTO found;
    RETURN found;
END
$$;
"""

_EVENTS = """
ALTER TABLE events ADD COLUMN received double precision NOT NULL DEFAULT extract(epoch FROM clock_timestamp());
ALTER TABLE events ADD FOREIGN KEY (computer) REFERENCES computers;
ALTER TABLE events ADD CHECK (
    length(id) BETWEEN 1 AND 200 AND length(what) BETWEEN 1 AND 40 AND length(key) <= 300 AND length(fields) <= 2000
    AND number > 0 AND pg_column_size(facts) <= 262144
);
CREATE FUNCTION take_event() RETURNS trigger
LANGUAGE plpgsql SECURITY DEFINER SET search_path = {schema}, pg_temp AS $$
BEGIN
    INSERT INTO latest AS before (computer, what, key, fields, number, id, moment, facts)
    VALUES (
        NEW.computer, NEW.what, NEW.key, NEW.fields, NEW.number, NEW.id,
        -- Nothing was seen later than it was told.
        least(NEW.moment, NEW.received), NEW.facts
    )
    ON CONFLICT (computer, what, key, fields) DO UPDATE
    SET number = excluded.number, id = excluded.id, moment = excluded.moment, facts = excluded.facts
    WHERE (excluded.number, excluded.id) > (before.number, before.id);
    RETURN NULL;
END
$$;
CREATE TRIGGER events_to_latest AFTER INSERT ON events FOR EACH ROW EXECUTE FUNCTION take_event();
CREATE INDEX latest_by_what ON latest (what);
"""

_FILES = """
CREATE TABLE listings (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    computer integer NOT NULL REFERENCES computers,
    chest text NOT NULL, bag text NOT NULL, library text NOT NULL, name text NOT NULL, kind text NOT NULL,
    top text NOT NULL, edition integer NOT NULL, files bigint NOT NULL, editions jsonb NOT NULL, roles jsonb NOT NULL,
    received double precision NOT NULL DEFAULT extract(epoch FROM clock_timestamp()),
    UNIQUE (computer, chest, bag)
);
CREATE INDEX listings_by_bag ON listings (chest, bag);
CREATE TABLE folders (
    listing bigint NOT NULL, computer integer NOT NULL, folder integer NOT NULL, path text NOT NULL, folded text
) PARTITION BY HASH (listing);
CREATE TABLE files (
    listing bigint NOT NULL, computer integer NOT NULL, folder integer NOT NULL, name text NOT NULL, folded text,
    size bigint NOT NULL, mtime bigint NOT NULL, digest bigint NOT NULL, first integer NOT NULL, last integer NOT NULL
) PARTITION BY HASH (listing);
"""

_INDEXES = """
CREATE INDEX folders_by_listing ON folders (listing, folder);
CREATE INDEX folders_by_path ON folders (listing, md5(path));
CREATE INDEX folders_by_letters ON folders USING gin (coalesce(folded, path) {letters}.gin_trgm_ops);
CREATE INDEX files_by_folder ON files (listing, folder);
CREATE INDEX files_by_digest ON files (digest);
CREATE INDEX files_by_size ON files (size);
CREATE INDEX files_by_time ON files (mtime);
CREATE INDEX files_by_letters ON files USING gin (coalesce(folded, name) {letters}.gin_trgm_ops);
"""

_RIGHTS = """
ALTER TABLE events ENABLE ROW LEVEL SECURITY;
ALTER TABLE listings ENABLE ROW LEVEL SECURITY;
ALTER TABLE folders ENABLE ROW LEVEL SECURITY;
ALTER TABLE files ENABLE ROW LEVEL SECURITY;
CREATE POLICY everyone_reads ON events FOR SELECT USING (true);
CREATE POLICY own_are_added ON events FOR INSERT WITH CHECK (computer = (SELECT own_computer()));
REVOKE ALL ON FUNCTION own_computer(), introduce(text), take_event() FROM PUBLIC;
GRANT USAGE ON SCHEMA {schema} TO {computers};
GRANT EXECUTE ON FUNCTION own_computer(), introduce(text) TO {computers};
GRANT SELECT ON events, latest, computers, listings, folders, files, alembic_version TO {computers};
GRANT INSERT (computer, id, number, what, key, fields, moment, facts) ON events TO {computers};
GRANT INSERT (computer, chest, bag, library, name, kind, top, edition, files, editions, roles) ON listings TO {computers};
GRANT INSERT ON folders, files TO {computers};
GRANT DELETE ON listings, folders, files TO {computers};
"""

_OWN = """
CREATE POLICY everyone_reads ON {table} FOR SELECT USING (true);
CREATE POLICY own_are_added ON {table} FOR INSERT WITH CHECK (computer = (SELECT own_computer()));
CREATE POLICY own_are_removed ON {table} FOR DELETE USING (computer = (SELECT own_computer()));
"""


def upgrade() -> None:
    """Make the tables, functions and rights; in a computer's own ledger there is nothing to do."""
    connection = op.get_bind()
    if connection.dialect.name != "postgresql":
        return
    quote = connection.dialect.identifier_preparer.quote
    schema = quote(str(connection.scalar(sa.text("SELECT current_schema()"))))
    database = str(connection.scalar(sa.text("SELECT current_database()")))
    computers = quote(f"dunechest_{database}")
    for script in (_COMPUTERS, _EVENTS, _FILES):
        connection.exec_driver_sql(script.format(schema=schema))
    for table in ("folders", "files"):
        for part in range(_PARTS):
            connection.exec_driver_sql(
                f"CREATE TABLE {table}_{part:02d} PARTITION OF {table} FOR VALUES WITH (MODULUS {_PARTS}, REMAINDER {part})"
            )
    connection.exec_driver_sql("CREATE EXTENSION IF NOT EXISTS pg_trgm")
    where = sa.text(
        "SELECT nspname FROM pg_extension JOIN pg_namespace ON pg_namespace.oid = extnamespace WHERE extname = 'pg_trgm'"
    )
    connection.exec_driver_sql(_INDEXES.format(letters=quote(str(connection.scalar(where)))))
    known = connection.scalar(
        sa.text("SELECT 1 FROM pg_roles WHERE rolname = :name"), {"name": f"dunechest_{database}"}
    )
    if not known:
        connection.exec_driver_sql(f"CREATE ROLE {computers} NOLOGIN")
    connection.exec_driver_sql(_RIGHTS.format(schema=schema, computers=computers))
    for table in ("listings", "folders", "files"):
        connection.exec_driver_sql(_OWN.format(table=table))
