"""SQLite databases of a library: captured through SQLite's own backup interface.

A database with a write-ahead log beside it is two or three files that only SQLite
can put together, and copying them one after the other while an application
writes gives a broken one. SQLite's backup interface (``sqlite3_backup_init``) gives
one consistent file.

The source must not change by being read. A database that nobody has open but that
has a log beside it would get a new index file next to it, so such a one is copied
aside with its log first, and captured from there.
"""

from __future__ import annotations

import os
import re
import shutil
import sqlite3
import tempfile
import time
from collections.abc import Iterator
from contextlib import closing, contextmanager
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import quote

from blake3 import blake3

from dunechest.transfer import safe

_HEADER = b"SQLite format 3\0"
#: Files that SQLite keeps beside a database; what they hold comes along in the capture.
COMPANIONS = ("-wal", "-shm", "-journal")
_TRIES = 5


class NotCaptured(Exception):
    """Why a file could not be captured as a database, in words."""


class InUse(NotCaptured):
    """An application holds the database for itself. Copying its file would give a broken one."""


@dataclass(frozen=True, slots=True)
class Capture:
    """A database that was captured: whether SQLite calls the capture sound, and its words if not."""

    sound: bool
    words: str


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


def capture(database: Path, target: Path, scratch: Path) -> Capture:
    """Write one consistent copy of a database to a new file.

    Parameters
    ----------
    database : Path
        The database; an application may have it open.
    target : Path
        The new file, which must not exist.
    scratch : Path
        An existing folder for a passing copy, on the same drive as `target`.

    Returns
    -------
    Capture

    Raises
    ------
    NotCaptured
        If SQLite cannot read the database; nothing is left at `target`.
    OSError
        If the drive cannot be written to.
    """
    if not looks_like_database(database):
        raise NotCaptured("it is not an SQLite database, or is encrypted")
    wal, shm, journal = (Path(p) for p in companions(str(database)))
    try:
        # With an index file there, some process has the database open (or had, when it
        # ended): SQLite's own locks make the copy consistent, and nothing new appears.
        open_elsewhere = shm.exists()
        if open_elsewhere or not (wal.exists() or journal.exists() or _keeps_log(database)):
            try:
                return _backup(read_only(database), target)
            except sqlite3.Error as error:
                target.unlink(missing_ok=True)
                if getattr(error, "sqlite_errorcode", 0) & 0xFF in (sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED):
                    raise InUse(_HELD) from error
        return _capture_aside(database, target, scratch)
    except sqlite3.Error as error:
        target.unlink(missing_ok=True)
        raise NotCaptured(f"SQLite cannot read it: {error}") from error
    except BaseException:
        target.unlink(missing_ok=True)
        raise


def _keeps_log(database: Path) -> bool:
    """Whether the header says that the database uses a write-ahead log (file format, section 1.3)."""
    with database.open("rb") as file:
        return file.read(20)[18:20] == b"\x02\x02"


#: Seconds that an application may hold its database for itself before it is left out.
PATIENCE = 10.0
#: Pages copied before there is a look at the clock, and at whether the person wants to stop.
_PAGES = 2000


def _backup(source: sqlite3.Connection, target: Path) -> Capture:
    with closing(source), closing(sqlite3.connect(target)) as copy:
        # The first read takes a lock that writers wait for, or see past (with a log): so the pages belong together, and
        # the copy never has to begin again.
        _begin_reading(source)
        until = time.monotonic() + PATIENCE

        def watch(status: int, remaining: int, total: int) -> None:
            nonlocal until
            if status in (sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED):
                if time.monotonic() > until:
                    raise InUse(_HELD)
            else:
                until = time.monotonic() + PATIENCE

        source.backup(copy, pages=_PAGES, progress=watch, sleep=0.1)
        words = damage_in(copy)
        for ending in COMPANIONS:
            Path(str(target) + ending).unlink(missing_ok=True)
    for ending in COMPANIONS:
        Path(str(target) + ending).unlink(missing_ok=True)
    return Capture(words == "ok", words)


_HELD = "an application holds it for itself, so that nobody else can read it"


def _begin_reading(source: sqlite3.Connection) -> None:
    """Begin to read a database; wait for one that is held by an application, but not for ever."""
    until = time.monotonic() + PATIENCE
    source.execute("PRAGMA busy_timeout = 200")
    source.isolation_level = None
    while True:
        try:
            source.execute("BEGIN")
            source.execute("SELECT count(*) FROM sqlite_master").fetchone()
            return
        except sqlite3.OperationalError as error:
            if source.in_transaction:
                source.execute("ROLLBACK")
            if error.sqlite_errorcode & 0xFF not in (sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED):
                raise
            if time.monotonic() > until:
                raise InUse(_HELD) from error


#: What SQLite says where an application brings a sort order, a function or a kind of table of its own.
_OWN = re.compile(r"no such (?:collation sequence|function|module|tokenizer)|unknown tokenizer")
_COLLATION = re.compile(r"no such collation sequence: (.+)")
#: What is said of an index, which such a sort order or function decides about.
_OF_INDEX = re.compile(
    r"row \d+ missing from index|wrong # of entries in index|non-unique entry in index|rowid not at end"
)


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


def _capture_aside(database: Path, target: Path, scratch: Path) -> Capture:
    """Copy a database nobody has open, with its log or journal, and capture the copy."""
    aside = scratch / "database"
    names = (str(database), str(database) + "-wal", str(database) + "-journal")
    try:
        for again in range(_TRIES):
            before = [_stamp(name) for name in names]
            for name, ending in zip(names, ("", "-wal", "-journal"), strict=True):
                beside = Path(str(aside) + ending)
                beside.unlink(missing_ok=True)
                if Path(name).exists():
                    shutil.copyfile(name, beside)
            if before == [_stamp(name) for name in names]:
                return _backup(sqlite3.connect(aside), target)
            time.sleep(0.2 * (again + 1))
    finally:
        for ending in ("", *COMPANIONS):
            Path(str(aside) + ending).unlink(missing_ok=True)
    raise NotCaptured("it keeps changing, though no process could be seen that has it open")


def _stamp(name: str) -> tuple[int, int, int] | None:
    try:
        info = os.stat(name)
    except FileNotFoundError:
        return None
    return info.st_size, info.st_mtime_ns, info.st_ctime_ns


def databases_differ(one: Path, other: Path) -> str:
    """Say in what two databases differ by their tables and rows; empty if all of them are the same."""
    try:
        with questions(one, seconds=3600.0) as first, questions(other, seconds=3600.0) as second:
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
        with tempfile.TemporaryDirectory(prefix="dunechest-") as scratch:
            aside = Path(scratch) / "database"
            for source, ending in ((database, ""), (wal, "-wal"), (journal, "-journal")):
                if source.exists():
                    os.close(safe.open_regular(source))
                    shutil.copyfile(source, str(aside) + ending)
            with closing(sqlite3.connect(aside)) as connection:
                connection.execute("SELECT count(*) FROM sqlite_master").fetchone()  # what is in the log is taken in
                yield guard(connection, seconds)
