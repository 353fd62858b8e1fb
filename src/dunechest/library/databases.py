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
import shutil
import sqlite3
import tempfile
import time
from collections.abc import Iterator
from contextlib import closing, contextmanager
from dataclasses import dataclass
from pathlib import Path
from urllib.parse import quote

from dunechest.transfer import safe

_HEADER = b"SQLite format 3\0"
#: Files that SQLite keeps beside a database; what they hold comes along in the capture.
COMPANIONS = ("-wal", "-shm", "-journal")
_TRIES = 5


class NotCaptured(Exception):
    """Why a file could not be captured as a database, in words."""


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
            except sqlite3.Error:
                target.unlink(missing_ok=True)
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


def _backup(source: sqlite3.Connection, target: Path) -> Capture:
    with closing(source), closing(sqlite3.connect(target)) as copy:
        # All pages in one step: a writer waits, instead of making the copy begin again for ever.
        source.backup(copy)
        words = "; ".join(str(row[0]) for row in copy.execute("PRAGMA quick_check(3)"))
        for ending in COMPANIONS:
            Path(str(target) + ending).unlink(missing_ok=True)
    for ending in COMPANIONS:
        Path(str(target) + ending).unlink(missing_ok=True)
    return Capture(words == "ok", words)


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


@contextmanager
def questions(database: Path) -> Iterator[sqlite3.Connection]:
    """Open a database to ask it questions, its log included, without leaving a trace beside it.

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
            yield connection
    elif not filled:
        with closing(read_only(database, immutable=True)) as connection:
            yield connection
    else:
        # What is still in the log counts; SQLite would make an index beside it, so that is made aside.
        with tempfile.TemporaryDirectory(prefix="dunechest-") as scratch:
            aside = Path(scratch) / "database"
            for source, ending in ((database, ""), (wal, "-wal"), (journal, "-journal")):
                if source.exists():
                    shutil.copyfile(source, str(aside) + ending)
            with closing(sqlite3.connect(aside)) as connection:
                yield connection
