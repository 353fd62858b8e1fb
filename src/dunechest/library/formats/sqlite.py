"""SQLite databases of a library, opened here and nowhere else: read-only or as a copy, guarded, for a bounded time."""

from __future__ import annotations

import os
import sqlite3
import time
from collections.abc import Iterator
from contextlib import closing, contextmanager
from pathlib import Path
from urllib.parse import quote

from blake3 import blake3

from dunechest.library.formats.base import UnreadableError
from dunechest.regex import late
from dunechest.transfer import patient, safe

_HEADER = b"SQLite format 3\0"
#: Files that SQLite keeps beside a database; what they hold is included in the capture.
COMPANIONS = ("-wal", "-shm", "-journal")


def companions(path: str) -> tuple[str, ...]:
    """Return the paths that SQLite may keep beside a database."""
    return tuple(path + ending for ending in COMPANIONS)


def read_only(path: Path, *, immutable: bool = False) -> sqlite3.Connection:
    """Open a database for reading only.

    With `immutable` SQLite takes no locks, looks at no log and leaves no trace; that
    is right for asking a closed database a question and wrong for copying an open one.
    """
    # The path as bytes, so that names which are not UTF-8 work too.
    address = "file:" + quote(os.fsencode(path.absolute())) + "?mode=ro" + ("&immutable=1" if immutable else "")
    return sqlite3.connect(address, uri=True, timeout=2.0)


def looks_like_database(path: Path) -> bool:
    """Whether a file begins as SQLite databases do."""
    try:
        fd = safe.open_regular(path)
    except OSError:
        return False
    with os.fdopen(fd, "rb") as file:
        return file.read(len(_HEADER)) == _HEADER


#: What SQLite says where an application brings a sort order, a function or a kind of table of its own.
_OWN = late(r"no such (?:collation sequence|function|module|tokenizer)|unknown tokenizer")
_COLLATION = late(r"no such collation sequence: (.+)")
#: What is said of an index, which such a sort order or function decides about.
_OF_INDEX = late(r"row \d+ missing from index|wrong # of entries in index|non-unique entry in index|rowid not at end")


def damage_in(connection: sqlite3.Connection, *, thorough: bool = False) -> str:
    """Return ``ok``, or what SQLite finds damaged in a database.

    An index or a sort order that only the application knows is no damage: what depends on it is not looked at.

    Parameters
    ----------
    connection : sqlite3.Connection
        The database.
    thorough : bool
        Whether indexes are held against their tables, too.

    Raises
    ------
    sqlite3.Error
        If it cannot be read at all.
    """
    pragma = "PRAGMA integrity_check(20)" if thorough else "PRAGMA quick_check(20)"
    foreign = False
    for _ in range(50):
        try:
            lines = [str(row[0]) for row in connection.execute(pragma)]
        except sqlite3.OperationalError as error:
            if _OWN.search(str(error)) is None:
                raise
            foreign = True
            found = _COLLATION.search(str(error))
            if found is None:
                return "ok"
            connection.create_collation(found.group(1), lambda a, b: (a > b) - (a < b))
            continue
        if foreign:
            lines = [line for line in lines if _OF_INDEX.search(line) is None] or ["ok"]
        return "; ".join(lines[:3])
    return "ok"


def databases_differ(database: Path, another: Path) -> str:
    """Say in what two databases differ by their tables and rows; empty if all of them are the same."""
    try:
        with questions(database, seconds=3600.0) as first, questions(another, seconds=3600.0) as second:
            tables = [_rows_by_table(connection) for connection in (first, second)]
    except (sqlite3.Error, OSError) as error:
        return f"as databases they cannot be compared: {error}"
    names = sorted({*tables[0], *tables[1]})
    differ = [name for name in names if tables[0].get(name) != tables[1].get(name)]
    if not differ:
        return ""
    some = ", ".join(differ[:5])
    return f"as databases they differ in: {some}" + (f" and {len(differ) - 5} more" if len(differ) > 5 else "")


def _rows_by_table(connection: sqlite3.Connection) -> dict[str, tuple[int, int]]:
    """Return for each table, and the schema itself, the number of its rows and a digest that no order changes."""
    found: dict[str, tuple[int, int]] = {}
    connection.text_factory = bytes
    schema = "SELECT type, name, tbl_name, sql FROM sqlite_master"
    tables = [bytes(row[1]) for row in connection.execute(schema) if row[0] == b"table" and row[3] is not None]
    queries = {"the schema": schema}
    for raw in tables:
        name = raw.decode("utf-8", "replace")
        queries[name] = 'SELECT * FROM "' + name.replace('"', '""') + '"'  # noqa: S608 - the name is quoted
    for name, query in queries.items():
        count = total = 0
        try:
            for row in connection.execute(query):
                count += 1
                total += int.from_bytes(blake3(repr(row).encode()).digest())
        except sqlite3.OperationalError as error:
            if _OWN.search(str(error)) is None:
                raise
            continue  # a kind of table that only its application can read; its rows lie in other tables
        found[name] = (count, total % (1 << 256))
    return found


#: Seconds that all questions to one database may take together.
ANSWERS = 120.0
#: Bytes of one value, such as a picture in a table.
_LONGEST = 1 << 28
#: What a question may do: read. Attaching another file, writing, and settings that last are refused.
_ALLOWED = frozenset(
    {
        sqlite3.SQLITE_SELECT,
        sqlite3.SQLITE_READ,
        sqlite3.SQLITE_FUNCTION,
        sqlite3.SQLITE_RECURSIVE,
        sqlite3.SQLITE_PRAGMA,
        sqlite3.SQLITE_TRANSACTION,
    }
)


def guard(connection: sqlite3.Connection, seconds: float = ANSWERS) -> sqlite3.Connection:
    """Let a database that may be a stranger's be read, and nothing else, for a bounded time.

    A view in it can be endless, and its schema can call functions.
    """
    until = time.monotonic() + seconds
    connection.execute("PRAGMA trusted_schema = OFF")
    connection.setlimit(sqlite3.SQLITE_LIMIT_LENGTH, _LONGEST)
    connection.setlimit(sqlite3.SQLITE_LIMIT_ATTACHED, 0)
    connection.set_progress_handler(lambda: int(time.monotonic() > until), 100_000)
    connection.set_authorizer(lambda action, *rest: sqlite3.SQLITE_OK if action in _ALLOWED else sqlite3.SQLITE_DENY)
    return connection


@contextmanager
def questions(database: Path, *, seconds: float = ANSWERS) -> Iterator[sqlite3.Connection]:
    """Open a database to ask it questions, its log included, without leaving a trace beside it.

    This is how every reader opens a database of a library: read-only, guarded (`guard`), for so many seconds at most.

    Raises
    ------
    sqlite3.Error
        If it is not a database.
    OSError
        If it cannot be read.
    """
    # SQLite itself would follow a link, and wait for ever at a pipe.
    os.close(safe.open_regular(database))
    wal, shm, journal = (Path(p) for p in companions(str(database)))
    filled = any(p.exists() and p.stat().st_size for p in (wal, journal))
    if shm.exists():
        with closing(read_only(database)) as connection:
            yield guard(connection, seconds)
    elif not filled:
        with closing(read_only(database, immutable=True)) as connection:
            yield guard(connection, seconds)
    else:
        # What is still in the log counts; SQLite would make an index beside it, so that is made aside.
        import tempfile

        with tempfile.TemporaryDirectory(prefix="dunechest-") as scratch:
            aside = Path(scratch) / "database"
            for source, ending in ((database, ""), (wal, "-wal"), (journal, "-journal")):
                if source.exists():
                    os.close(safe.open_regular(source))
                    import shutil

                    shutil.copyfile(source, str(aside) + ending)
            with closing(sqlite3.connect(aside)) as connection:
                connection.execute("SELECT count(*) FROM sqlite_master").fetchone()  # what is in the log is taken in
                yield guard(connection, seconds)


#: Seconds that the writing may take: a hostile trigger would take for ever.
WRITING = 120.0
_MAY_WRITE = frozenset(
    {
        sqlite3.SQLITE_SELECT,
        sqlite3.SQLITE_READ,
        sqlite3.SQLITE_FUNCTION,
        sqlite3.SQLITE_UPDATE,
        sqlite3.SQLITE_INSERT,
        sqlite3.SQLITE_DELETE,
        sqlite3.SQLITE_TRANSACTION,
    }
)


@contextmanager
def writing(path: Path) -> Iterator[sqlite3.Connection]:
    """Open a database that nobody else has open, to change rows in it and nothing else; all or nothing.

    What a hostile database could do besides, attach another file or run for ever, is refused.

    Raises
    ------
    UnreadableError
        If SQLite cannot.
    """
    until = time.monotonic() + WRITING
    try:
        os.close(safe.open_regular(path))  # SQLite itself would follow a link
        with closing(sqlite3.connect(path, isolation_level=None)) as connection:
            connection.text_factory = lambda raw: raw.decode("utf-8", "surrogateescape")
            connection.execute("PRAGMA trusted_schema = OFF")
            connection.set_progress_handler(lambda: int(time.monotonic() > until), 100_000)
            connection.set_authorizer(
                lambda action, *rest: sqlite3.SQLITE_OK if action in _MAY_WRITE else sqlite3.SQLITE_DENY
            )
            connection.execute("BEGIN IMMEDIATE")
            try:
                yield connection
                connection.execute("COMMIT")
            except BaseException:
                if connection.in_transaction:
                    connection.execute("ROLLBACK")
                raise
            finally:
                connection.set_authorizer(None)
    except (sqlite3.Error, OSError, UnicodeEncodeError) as error:
        raise UnreadableError(f"SQLite cannot change it: {error}") from error
    finally:
        for ending in COMPANIONS:
            beside = Path(str(path) + ending)
            if beside.exists() and not beside.stat().st_size:
                patient.unlink(beside)


def why_no_databases(folder: Path) -> str:
    """Try whether a database can be worked with in a folder, locks included; say why not, or nothing.

    A database of a few bytes is made in a folder of its own, and removed.
    """
    try:
        before = folder.stat()
        import tempfile

        with tempfile.TemporaryDirectory(prefix=".dune-probe-", dir=folder) as own:
            path = Path(own) / "probe"
            with closing(sqlite3.connect(path, timeout=1.0)) as first, first:
                first.execute("CREATE TABLE probe (value)")
            with closing(sqlite3.connect(path, timeout=0.0)) as first:
                first.execute("BEGIN EXCLUSIVE")
                first.execute("INSERT INTO probe VALUES (1)")
                first.commit()
                (count,) = first.execute("SELECT count(*) FROM probe").fetchone()
        os.utime(folder, ns=(before.st_atime_ns, before.st_mtime_ns))  # no trace, not even in the time
        return "" if count == 1 else "what is written to it does not come back"
    except (sqlite3.Error, OSError) as error:
        return str(error)
