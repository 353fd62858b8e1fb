"""Capture an SQLite database of a library through SQLite's own backup interface.

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
import sqlite3
import time
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import closing, contextmanager
from pathlib import Path

import msgspec

from dunechest.library.formats.sqlite import COMPANIONS, companions, damage_in, looks_like_database, read_only
from dunechest.transfer import patient

_TRIES = 5


class NotCapturedError(Exception):
    """Why a file could not be captured as a database, in words."""


class DatabaseInUseError(NotCapturedError):
    """An application holds the database for itself. Copying its file would give a broken one."""


class Capture(msgspec.Struct, frozen=True):
    """A database that was captured: whether SQLite calls the capture intact, and its words if not."""

    intact: bool
    words: str


def _silent(count: int) -> None:
    """Tell nobody."""


#: Databases of which one moment is taken together at most.
_TOGETHER = 64


@contextmanager
def one_moment(databases: Iterable[Path]) -> Iterator[Mapping[Path, sqlite3.Connection]]:
    """Begin to read several databases at one moment, for an application that has attached them to each other.

    While the block runs each connection sees its database as it was then. Where a change came in between, it is tried again a
    few times. A database that SQLite would make a file beside, or that is held by an application, is not among them.
    """
    until = time.monotonic() + 1.0  # for all of them: a journal may also be one that an application left behind
    wanted = [path for path in list(databases)[:_TOGETHER] if looks_like_database(path) and _settles(path, until)]
    held: dict[Path, sqlite3.Connection] = {}
    try:
        for again in range(_TRIES if len(wanted) > 1 else 0):
            before = [_stamp(name) for path in wanted for name in (str(path), f"{path}-wal")]
            held = {path: read_only(path) for path in wanted}
            try:
                for connection in held.values():
                    _begin_reading(connection, patience=1.0)
            except (sqlite3.Error, NotCapturedError):
                _let_go(held)
                break  # each by itself will say what is wrong with it
            if again == _TRIES - 1 or before == [
                _stamp(name) for path in wanted for name in (str(path), f"{path}-wal")
            ]:
                break
            _let_go(held)
            time.sleep(0.05 * (again + 1))
        yield held
    finally:
        _let_go(held)


def _settles(database: Path, until: float) -> bool:
    """Whether a database can be read in place, as soon as whoever writes to it just now has finished: its journal goes then."""
    while not _can_be_read_in_place(database):
        if time.monotonic() > until or _keeps_log(database):
            return False
        time.sleep(0.002)
    return True


def _let_go(held: dict[Path, sqlite3.Connection]) -> None:
    for connection in held.values():
        connection.close()
    held.clear()


def _can_be_read_in_place(database: Path) -> bool:
    """Whether SQLite can read a database without making a file beside it.

    With an index file there, some process has the database open (or had, when it ended): SQLite's own locks make the copy
    consistent, and nothing new appears.
    """
    wal, shm, journal = (Path(p) for p in companions(str(database)))
    return shm.exists() or not (wal.exists() or journal.exists() or _keeps_log(database))


def capture(
    database: Path,
    target: Path,
    scratch: Path,
    *,
    tell: Callable[[int], None] = _silent,
    held: sqlite3.Connection | None = None,
) -> Capture:
    """Write one consistent copy of a database to a new file.

    Parameters
    ----------
    database : Path
        The database; an application may have it open.
    target : Path
        The new file, which must not exist.
    scratch : Path
        An existing folder for a passing copy, on the same drive as `target`.
    tell : callable
        Told how many bytes were read, as they are.
    held : sqlite3.Connection, optional
        A connection that reads it already; see `one_moment`.

    Returns
    -------
    Capture

    Raises
    ------
    NotCapturedError
        If SQLite cannot read the database; nothing is left at `target`.
    OSError
        If the drive cannot be written to.
    """
    if not looks_like_database(database):
        raise NotCapturedError("it is not an SQLite database, or is encrypted")
    try:
        if held is not None or _can_be_read_in_place(database):
            try:
                return _backup(held or read_only(database), target, tell)
            except sqlite3.Error as error:
                patient.unlink(target, missing_ok=True)
                if getattr(error, "sqlite_errorcode", 0) & 0xFF in (sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED):
                    raise DatabaseInUseError(_HELD) from error
        return _capture_aside(database, target, scratch, tell)
    except sqlite3.Error as error:
        patient.unlink(target, missing_ok=True)
        raise NotCapturedError(f"SQLite cannot read it: {error}") from error
    except BaseException:
        patient.unlink(target, missing_ok=True)
        raise


def _keeps_log(database: Path) -> bool:
    """Whether the header says that the database uses a write-ahead log (file format, section 1.3)."""
    with database.open("rb") as file:
        return file.read(20)[18:20] == b"\x02\x02"


#: Seconds that an application may hold its database for itself before it is left out.
PATIENCE = 10.0
#: Pages copied before there is a look at the clock, and at whether the person wants to stop.
_PAGES = 2000


def _backup(source: sqlite3.Connection, target: Path, tell: Callable[[int], None]) -> Capture:
    with closing(source), closing(sqlite3.connect(target)) as copy:
        # The first read takes a lock that writers wait for, or see past (with a log): so the pages belong together, and
        # the copy never has to begin again.
        if not source.in_transaction:
            _begin_reading(source)
        until = time.monotonic() + PATIENCE
        page = source.execute("PRAGMA page_size").fetchone()[0]
        copied = 0

        def watch(status: int, remaining: int, total: int) -> None:
            nonlocal until, copied
            tell((total - remaining - copied) * page)
            copied = total - remaining
            if status in (sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED):
                if time.monotonic() > until:
                    raise DatabaseInUseError(_HELD)
            else:
                until = time.monotonic() + PATIENCE

        source.backup(copy, pages=_PAGES, progress=watch, sleep=0.1)
        copy.set_progress_handler(lambda: tell(0), 1_000_000)  # a large one takes its time to be looked through
        words = damage_in(copy)
    for ending in COMPANIONS:
        patient.unlink(Path(str(target) + ending), missing_ok=True)
    return Capture(words == "ok", words)


_HELD = "an application holds it for itself, so that nobody else can read it"


def _begin_reading(source: sqlite3.Connection, patience: float | None = None) -> None:
    """Begin to read a database; wait for one that is held by an application, but not for ever."""
    until = time.monotonic() + (PATIENCE if patience is None else patience)
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
                raise DatabaseInUseError(_HELD) from error


def _capture_aside(database: Path, target: Path, scratch: Path, tell: Callable[[int], None]) -> Capture:
    """Copy a database nobody has open, with its log or journal, and capture the copy."""
    aside = scratch / "database"
    names = (str(database), str(database) + "-wal", str(database) + "-journal")
    try:
        for again in range(_TRIES):
            before = [_stamp(name) for name in names]
            for name, ending in zip(names, ("", "-wal", "-journal"), strict=True):
                beside = Path(str(aside) + ending)
                patient.unlink(beside, missing_ok=True)
                if Path(name).exists():
                    _copy(name, beside, tell)
            if before == [_stamp(name) for name in names]:
                return _backup(sqlite3.connect(aside), target, _silent)
            time.sleep(0.2 * (again + 1))
    finally:
        for ending in ("", *COMPANIONS):
            patient.unlink(Path(str(aside) + ending), missing_ok=True)
    raise NotCapturedError("it keeps changing, though no process could be seen that has it open")


def _copy(source: str, target: Path, tell: Callable[[int], None]) -> None:
    with Path(source).open("rb") as file, target.open("xb") as copy:
        while block := file.read(1 << 22):
            copy.write(block)
            tell(len(block))


def _stamp(name: str) -> tuple[int, int, int] | None:
    try:
        info = os.stat(name)
    except FileNotFoundError:
        return None
    return info.st_size, info.st_mtime_ns, info.st_ctime_ns
