r"""The catalogue: every file of every edition of every chest that this computer met, in an SQLite database of its own.

It is a memory and no more: whatever it says is a hint where to look, and it can be thrown away and filled again from the
drives. So it is written without waiting for the disk, and one that is damaged is begun again.

**Names** are kept in chunks of some thousand, each a text of folders and the names in them, as a list of files has them:
``/folder\0name\0name\0/other folder\0name``. To find a few letters anywhere in five million paths, those texts are
searched through, which takes a tenth of a second; an index of letters would take longer and more room than the
names themselves. The text that is searched is folded (capitals and forms of accents do not count); the names as they
are lie beside it, packed. **Sizes, times and digests** have a row each, with indexes; of a digest eight bytes are
kept, which is plenty to find a file by. **Which bag has a file** in which editions is noted for whole runs of files.

SQLite is asked directly here: a short job should not wait for a larger library to load.
"""

from __future__ import annotations

import os
import sqlite3
import unicodedata
import zlib
from bisect import bisect_right
from collections.abc import Callable, Iterable, Iterator
from contextlib import ExitStack, closing, contextmanager
from itertools import islice
from pathlib import Path
from typing import Any, TypeVar

from filelock import FileLock
from msgspec.structs import astuple, replace

from dunechest.errors import DuneChestError
from dunechest.ledger import catalogue_proof
from dunechest.ledger.catalogue_rows import (
    CURRENT,
    BagKey,
    FileKey,
    Held,
    History,
    Match,
    PastEdition,
    PastRole,
    Query,
    Row,
)
from dunechest.ledger.folder import state_folder
from dunechest.ledger.name_texts import hits_in, path_at, paths_in, text_of
from dunechest.ledger.ranges import ended, gaps_in, joined, runs_of
from dunechest.names import shown
from dunechest.transfer.owner import hand_over, make_own

NAME = "catalogue.sqlite"
#: Grows with the form of the tables; a catalogue of another form is begun again.
_FORM = 3
_TABLES = """
CREATE TABLE libraries (id INTEGER PRIMARY KEY, key TEXT NOT NULL UNIQUE, name TEXT NOT NULL, kind TEXT NOT NULL);
CREATE TABLE bags (
    id INTEGER PRIMARY KEY, chest TEXT NOT NULL, bag TEXT NOT NULL, library INTEGER NOT NULL, top TEXT NOT NULL,
    edition INTEGER NOT NULL, UNIQUE (chest, bag)
);
CREATE TABLE chunks (
    start INTEGER PRIMARY KEY, count INTEGER NOT NULL, library INTEGER NOT NULL, folded BLOB NOT NULL, names BLOB NOT NULL
);
CREATE TABLE files (id INTEGER PRIMARY KEY, size INTEGER NOT NULL, mtime INTEGER NOT NULL, digest INTEGER NOT NULL);
CREATE INDEX files_by_digest ON files (digest);
CREATE INDEX files_by_size ON files (size);
CREATE INDEX files_by_time ON files (mtime);
CREATE TABLE held (
    bag INTEGER NOT NULL, low INTEGER NOT NULL, high INTEGER NOT NULL, first INTEGER NOT NULL, last INTEGER NOT NULL
);
CREATE INDEX held_by_bag ON held (bag, low);
CREATE TABLE editions (
    bag INTEGER NOT NULL, number INTEGER NOT NULL, archived REAL NOT NULL, files INTEGER NOT NULL, bytes INTEGER NOT NULL,
    first INTEGER NOT NULL, added INTEGER NOT NULL, changed INTEGER NOT NULL, moved INTEGER NOT NULL,
    dropped INTEGER NOT NULL, bytes_added INTEGER NOT NULL, mass_change INTEGER NOT NULL
);
CREATE INDEX editions_of_bag ON editions (bag, number);
CREATE TABLE roles (bag INTEGER NOT NULL, role TEXT NOT NULL, files INTEGER NOT NULL, bytes INTEGER NOT NULL);
CREATE INDEX roles_of_bag ON roles (bag);
"""
_CLEAR = (
    "DELETE FROM held WHERE bag = ?",
    "DELETE FROM editions WHERE bag = ?",
    "DELETE FROM roles WHERE bag = ?",
)
_CHUNK = 1024
_LEAST, _MOST = -(1 << 63), (1 << 63) - 1


_AnyKey = TypeVar("_AnyKey", bound=tuple[Any, ...])
#: The spans of editions that have a file.
_Wanted = dict[FileKey, tuple[tuple[int, int], ...]]


def _wanted(rows: Iterable[Row]) -> _Wanted:
    found: _Wanted = {}
    known: dict[tuple[int, int], tuple[tuple[int, int], ...]] = {}
    for row in rows:
        key, span = row[:5], row[5:]
        one = known.setdefault(span, (span,))
        before = found.get(key)
        if before is None:
            found[key] = one
        elif span not in before:
            found[key] = (*before, span)
    return found


def short_digest(blake3: str) -> int:
    """Return the part of a BLAKE3 digest (hexadecimal) that the catalogue keeps."""
    try:
        return int.from_bytes(bytes.fromhex(blake3[:16]), "big", signed=True)
    except ValueError:
        return 0


def folded(text: str) -> str:
    r"""Return text in the form in which it is searched.

    >>> folded("Fru\u0308h.JPG") == folded("früh.jpg")
    True
    """
    return text.casefold() if text.isascii() else unicodedata.normalize("NFC", text).casefold()


class Catalogue:
    """An open catalogue; see `open_catalogue`."""

    def __init__(self, connection: sqlite3.Connection) -> None:
        self._db = connection
        #: The chunk whose names were last asked for.
        self._open: tuple[int, bytes] = (0, b"")

    def top_of(self, chest: str, bag: str) -> str:
        """Return the digest of the tag manifest that a bag had when it was taken in; empty if it never was."""
        row = self._db.execute("SELECT top FROM bags WHERE chest = ? AND bag = ?", (chest, bag)).fetchone()
        return str(row[0]) if row else ""

    # Taking in.

    def forget(self, chest: str, bags: Iterable[str]) -> None:
        """Take out bags that are gone."""
        for bag in bags:
            row = self._db.execute(
                "SELECT id, library FROM bags WHERE chest = ? AND bag = ?", (chest, bag)
            ).fetchone()
            if row:
                for statement in _CLEAR:
                    self._db.execute(statement, row[:1])
                self._db.execute("DELETE FROM bags WHERE id = ?", row[:1])
                self._drop_unheld(row[1])

    def put(
        self,
        bag: BagKey,
        rows: Iterable[Row],
        editions: Iterable[PastEdition] = (),
        roles: Iterable[PastRole] = (),
        *,
        distinct: bool = False,
        tell: Callable[[int], object] = lambda done: None,
    ) -> None:
        """Take in all files of a bag; those that another chest or edition has alike are known already.

        `distinct` says that no two rows are alike but for their editions. `tell` is called with how many files are taken
        in, now and then. If reading the rows fails, nothing has been changed.
        """
        wanted: _Wanted | None = None
        if not distinct or self._has_library(bag):
            wanted = _wanted(rows)
        library = self._library(bag)
        self._db.execute(
            "INSERT INTO bags (chest, bag, library, top, edition) VALUES (?, ?, ?, ?, ?) ON CONFLICT (chest, bag) DO UPDATE "
            "SET library = excluded.library, top = excluded.top, edition = excluded.edition",
            (bag.chest, bag.bag, library, bag.top, bag.edition),
        )
        (own,) = self._db.execute("SELECT id FROM bags WHERE chest = ? AND bag = ?", (bag.chest, bag.bag)).fetchone()
        for statement in _CLEAR:
            self._db.execute(statement, (own,))
        self._put_editions(own, editions, roles)
        held = self._take_new(library, rows, tell) if wanted is None else self._take(library, wanted, tell)
        self._db.executemany("INSERT INTO held VALUES (?, ?, ?, ?, ?)", ((own, *run) for run in runs_of(held)))
        self._drop_unheld(library)

    def advance(
        self,
        bag: BagKey,
        before: str,
        gone: Iterable[FileKey],
        come: Iterable[FileKey],
        edition: PastEdition,
        roles: Iterable[PastRole],
    ) -> bool:
        """Take in the next edition of a bag by what it changed; False, and nothing done, if that cannot be.

        Parameters
        ----------
        bag : BagKey
            The bag as it is now.
        before : str
            The digest of the tag manifest that it had with the edition before; the catalogue must know it as it was then.
        gone, come : iterable of tuple
            Folder, name, bytes, time and digest of what the edition before had and this one has not, and the other way round.
        edition, roles
            As for `put`.
        """
        known = self._db.execute(
            "SELECT bags.id, bags.library, bags.top, bags.edition FROM bags JOIN libraries ON libraries.id = bags.library "
            "WHERE bags.chest = ? AND bags.bag = ? AND libraries.key = ?",
            (bag.chest, bag.bag, bag.key),
        ).fetchone()
        if known is None or not before or known[2:] != (before, bag.edition - 1):
            return False
        own, library = known[:2]
        left, new = dict.fromkeys(gone), dict.fromkeys(come)
        numbers = self._numbers(library, {**left, **new})
        runs = self._db.execute("SELECT low, high, first, last FROM held WHERE bag = ?", (own,)).fetchall()
        ending = {numbers[key] for key in left if key in numbers}
        now = ended(runs, ending, CURRENT, bag.edition - 1) if len(ending) == len(left) else None
        if now is None:
            return False
        self._library(bag)
        self._db.execute("UPDATE bags SET top = ?, edition = ? WHERE id = ?", (bag.top, bag.edition, own))
        self._db.execute("DELETE FROM held WHERE bag = ?", (own,))
        self._db.execute("DELETE FROM roles WHERE bag = ?", (own,))
        self._put_editions(own, [edition], roles)
        arriving = [numbers[key] for key in new if key in numbers]
        arriving += [number for number, _ in self._add(library, sorted(new.keys() - numbers), lambda done: None)]
        now += runs_of((number, bag.edition, CURRENT) for number in sorted(arriving))
        self._db.executemany("INSERT INTO held VALUES (?, ?, ?, ?, ?)", ((own, *run) for run in now))
        return True

    def _put_editions(self, own: int, editions: Iterable[PastEdition], roles: Iterable[PastRole]) -> None:
        self._db.executemany(
            "INSERT INTO editions VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)",
            ((own, *astuple(edition)) for edition in editions),
        )
        self._db.executemany("INSERT INTO roles VALUES (?, ?, ?, ?)", ((own, *astuple(role)) for role in roles))

    def _numbers(self, library: int, keys: Iterable[FileKey]) -> dict[FileKey, int]:
        """Return the numbers of those of some files of a library that are known."""
        likely: dict[tuple[int, int, int], dict[tuple[str, str], FileKey]] = {}
        for key in keys:
            likely.setdefault(key[2:], {})[key[:2]] = key
        chunks = self._db.execute(
            "SELECT start, count FROM chunks WHERE library = ? ORDER BY start", (library,)
        ).fetchall()
        starts = [start for start, _ in chunks]
        wanted: dict[int, dict[int, dict[tuple[str, str], FileKey]]] = {}
        for facts, paths in likely.items():
            for (number,) in self._db.execute(
                # The plus signs keep the other two indexes out: a million files can be of one size.
                "SELECT id FROM files WHERE digest = ? AND +size = ? AND +mtime = ?",
                (facts[2], facts[0], facts[1]),
            ):
                at = bisect_right(starts, number) - 1
                if at >= 0 and number < sum(chunks[at]):
                    wanted.setdefault(starts[at], {})[number - starts[at]] = paths
        found: dict[FileKey, int] = {}
        for start, places in wanted.items():
            (packed,) = self._db.execute("SELECT names FROM chunks WHERE start = ?", (start,)).fetchone()
            names = list(paths_in(zlib.decompress(packed).decode()))
            for place, paths in places.items():
                own = paths.get(names[place])
                if own is not None:
                    found[own] = start + place
        return found

    def _has_library(self, bag: BagKey) -> bool:
        sql = "SELECT 1 FROM libraries JOIN chunks ON chunks.library = libraries.id WHERE libraries.key = ? LIMIT 1"
        return self._db.execute(sql, (bag.key,)).fetchone() is not None

    def _take(self, library: int, wanted: _Wanted, tell: Callable[[int], object]) -> Iterator[tuple[int, int, int]]:
        """Yield number, first and last edition of each file, those that are known first, and add the others."""
        for number, key in self._known(library, tell):
            for span in wanted.pop(key, ()):
                yield number, *span
        for number, key in self._add(library, sorted(wanted), tell):
            for span in wanted[key]:
                yield number, *span

    def _take_new(
        self, library: int, rows: Iterable[Row], tell: Callable[[int], object]
    ) -> Iterator[tuple[int, int, int]]:
        """Add the files of a library of which nothing is known, in the order in which they come; see `_take`."""
        for number, row in self._add(library, rows, tell):
            yield number, row[5], row[6]

    def _library(self, bag: BagKey) -> int:
        self._db.execute(
            "INSERT INTO libraries (key, name, kind) VALUES (?, ?, ?) ON CONFLICT (key) DO UPDATE "
            "SET name = excluded.name, kind = excluded.kind",
            (bag.key, bag.name, bag.kind),
        )
        (number,) = self._db.execute("SELECT id FROM libraries WHERE key = ?", (bag.key,)).fetchone()
        return int(number)

    def _known(self, library: int, tell: Callable[[int], object]) -> Iterator[tuple[int, FileKey]]:
        """Yield the files of a library that are known, each with its number, in the order of the numbers."""
        for start, count, names in self._db.execute(
            "SELECT start, count, names FROM chunks WHERE library = ? ORDER BY start", (library,)
        ).fetchall():
            tell(0)
            facts = {
                row[0]: row[1:]
                for row in self._db.execute(
                    "SELECT id, size, mtime, digest FROM files WHERE id BETWEEN ? AND ?", (start, start + count - 1)
                )
            }
            for number, path in enumerate(paths_in(zlib.decompress(names).decode()), start):
                if number in facts:
                    yield number, (*path, *facts[number])

    def _add(
        self, library: int, fresh: Iterable[_AnyKey], tell: Callable[[int], object]
    ) -> Iterator[tuple[int, _AnyKey]]:
        """Add files, and yield each with its number."""
        (last,) = self._db.execute("SELECT coalesce(max(start + count), 1) FROM chunks").fetchone()
        source, done = iter(fresh), 0
        while part := list(islice(source, _CHUNK)):
            text = text_of(part)
            self._db.execute(
                "INSERT INTO chunks VALUES (?, ?, ?, ?, ?)",
                (last, len(part), library, folded(text).encode(), zlib.compress(text.encode(), 6)),
            )
            self._db.executemany(
                "INSERT INTO files VALUES (?, ?, ?, ?)", [(last + n, *key[2:5]) for n, key in enumerate(part)]
            )
            yield from enumerate(part, last)
            last += len(part)
            done += len(part)
            tell(done)

    def _drop_unheld(self, library: int) -> None:
        """Take out the rows of files that no bag has any more; their names go when their whole chunk does."""
        runs = self._db.execute(
            "SELECT low, high FROM held JOIN bags ON bags.id = held.bag WHERE bags.library = ? ORDER BY low",
            (library,),
        ).fetchall()
        chunks = self._db.execute(
            "SELECT start, count FROM chunks WHERE library = ? ORDER BY start", (library,)
        ).fetchall()
        covered = joined(runs)
        for start, count in chunks:
            gaps = list(gaps_in(start, start + count - 1, covered))
            for low, high in gaps:
                self._db.execute("DELETE FROM files WHERE id BETWEEN ? AND ?", (low, high))
            if gaps == [(start, start + count - 1)]:
                self._db.execute("DELETE FROM chunks WHERE start = ?", (start,))

    # Finding.

    def find(self, query: Query, most: int) -> list[Match]:
        """Return files that are looked for, at most so many."""
        libraries = {
            number: (name, kind)
            for number, name, kind in self._db.execute("SELECT id, name, kind FROM libraries")
            if query.library in (None, name) or folded(query.library or "") == folded(name)
            if query.kind is None or folded(query.kind) == folded(kind)
        }
        found: list[Match] = []
        source = (
            self._by_name(query, libraries) if query.fragments or query.fits else self._by_facts(query, libraries)
        )
        for number, library, path in source:
            facts = self._facts(number, query)
            if facts is None:
                continue
            held = tuple(item for item in self._held(number, library) if query.chests(item.chest))
            if held:
                found.append(Match(*libraries[library], path, *facts, held))
                if len(found) == most:
                    break
        return found

    def _by_name(self, query: Query, libraries: dict[int, tuple[str, str]]) -> Iterator[tuple[int, int, str]]:
        """Yield number, library and path of the files whose path is the one that is looked for."""
        wanted = sorted((fragment.encode() for fragment in query.fragments), key=len, reverse=True)
        for start, library, text in self._db.execute("SELECT start, library, folded FROM chunks ORDER BY start"):
            if library not in libraries or not all(fragment in text for fragment in wanted):
                continue
            for place, path in hits_in(text, wanted):
                if query.fits is None or query.fits(path):
                    yield start + place, library, self._path(start, place)

    def _path(self, start: int, place: int) -> str:
        """Return the path of a file of a chunk, as it is."""
        if self._open[0] != start:
            (packed,) = self._db.execute("SELECT names FROM chunks WHERE start = ?", (start,)).fetchone()
            self._open = start, zlib.decompress(packed)
        return path_at(self._open[1], place)

    def _by_facts(self, query: Query, libraries: dict[int, tuple[str, str]]) -> Iterator[tuple[int, int, str]]:
        """Yield number, library and path of the files whose size, time or digest is looked for."""
        chunks = self._db.execute("SELECT start, count, library FROM chunks ORDER BY start").fetchall()
        starts = [chunk[0] for chunk in chunks]
        for (number,) in self._likely(query):
            start, count, library = chunks[bisect_right(starts, number) - 1]
            if library in libraries and start <= number < start + count:
                yield number, library, self._path(start, number - start)

    def _likely(self, query: Query) -> sqlite3.Cursor:
        """Return the numbers of the files that an index finds; of all that is asked, what finds the fewest."""
        if query.digest is not None:
            return self._db.execute("SELECT id FROM files WHERE digest = ?", (query.digest,))
        if query.since is not None or query.before is not None:
            span = (_LEAST if query.since is None else query.since, _MOST if query.before is None else query.before)
            return self._db.execute("SELECT id FROM files WHERE mtime >= ? AND mtime < ?", span)
        sizes = (query.smallest or 0, _MOST if query.largest is None else query.largest)
        return self._db.execute("SELECT id FROM files WHERE size BETWEEN ? AND ?", sizes)

    def _facts(self, number: int, query: Query) -> tuple[int, int] | None:
        """Return size and time of a file, if they are looked for."""
        row = self._db.execute("SELECT size, mtime, digest FROM files WHERE id = ?", (number,)).fetchone()
        if row is None:
            return None
        size, mtime, digest = row
        well = (
            query.digest in (None, digest)
            and (query.smallest or 0) <= size <= (_MOST if query.largest is None else query.largest)
            and (query.since is None or mtime >= query.since)
            and (query.before is None or mtime < query.before)
        )
        return (size, mtime) if well else None

    def _held(self, number: int, library: int) -> Iterator[Held]:
        rows = self._db.execute(
            "SELECT bags.chest, bags.bag, held.first, held.last, bags.edition FROM bags JOIN held ON held.bag = bags.id "
            "WHERE bags.library = ? AND held.low <= ? AND held.high >= ? ORDER BY bags.chest, bags.bag, held.first DESC",
            (library, number, number),
        )
        return (Held(*row) for row in rows)

    def bags(self) -> tuple[BagKey, ...]:
        """Return every bag that is known, and the library in it."""
        rows = self._db.execute(
            "SELECT chest, bag, libraries.key, libraries.name, libraries.kind, top, edition FROM bags "
            "JOIN libraries ON libraries.id = bags.library ORDER BY chest, bag"
        )
        return tuple(BagKey(*row) for row in rows)

    def rows_of(self, bag: BagKey) -> Iterator[Row]:
        """Yield the files of a bag, those of a folder one after the other; of several spans of editions each is a row."""
        known = self._db.execute(
            "SELECT id, library FROM bags WHERE chest = ? AND bag = ?", (bag.chest, bag.bag)
        ).fetchone()
        if known is None:
            return
        runs = self._db.execute(
            "SELECT low, high, first, last FROM held WHERE bag = ? ORDER BY low", known[:1]
        ).fetchall()
        at = 0
        ongoing: list[tuple[int, int, int, int]] = []
        for number, key in self._known(known[1], lambda done: None):
            while at < len(runs) and runs[at][0] <= number:
                ongoing.append(runs[at])
                at += 1
            ongoing = [run for run in ongoing if run[1] >= number]
            for _, _, first, last in ongoing:
                yield Row(*key, first, last)

    def histories(self) -> tuple[History, ...]:
        """Return what is known of every bag beside its files."""
        found = []
        for number, chest, bag in self._db.execute("SELECT id, chest, bag FROM bags ORDER BY chest, bag").fetchall():
            editions = [
                replace(PastEdition(*row), first=bool(row[4]), mass_change=bool(row[10]))
                for row in self._db.execute(
                    "SELECT number, archived, files, bytes, first, added, changed, moved, dropped, bytes_added, mass_change "
                    "FROM editions WHERE bag = ? ORDER BY number",
                    (number,),
                )
            ]
            roles = self._db.execute("SELECT role, files, bytes FROM roles WHERE bag = ? ORDER BY role", (number,))
            found.append(History(chest, bag, tuple(editions), tuple(PastRole(*row) for row in roles)))
        return tuple(found)

    def counts(self, wanted: Callable[[str], bool] = lambda chest: True) -> tuple[int, int]:
        """Return how many files are known, and how many of the chests that are wanted."""
        (files,) = self._db.execute("SELECT coalesce(sum(count), 0) FROM chunks").fetchone()
        chests = self._db.execute("SELECT DISTINCT chest FROM bags").fetchall()
        return int(files), sum(wanted(chest) for (chest,) in chests)


@contextmanager
def open_catalogue(*, write: bool = False, prove: bool = True) -> Iterator[Catalogue]:
    """Open the catalogue, making it if need be; a damaged one is set aside or begun again.

    Parameters
    ----------
    write : bool
        Whether it will be changed; all changes are kept if the block ends well, and none otherwise.
    prove : bool
        Whether it is held against its digest first. Who only asks what is to be taken in again need not.

    Raises
    ------
    DuneChestError
        If it cannot be used, or is not as it was written: then a new one is begun the next time.
    """
    folder = state_folder()
    place = folder / NAME
    alone = ExitStack()
    try:
        make_own(folder)
        if write:
            alone.enter_context(FileLock(folder / "catalogue.lock", timeout=30))
        if (write or prove) and catalogue_proof.is_harmed(place):
            aside = catalogue_proof.set_aside(place)
            told = f"The catalogue in {shown(str(place))} was damaged, and was set aside as {shown(aside.name)}. Files are found "
            raise DuneChestError(
                f"{told}again on each drive that is looked at once more: dunechest chest show CHEST. What is archived is not "
                "touched by it."
            )
        with closing(_connect(place)) as connection:
            if write:
                connection.execute("BEGIN IMMEDIATE")
                catalogue_proof.begin_change(place)
            yield Catalogue(connection)
            if write:
                connection.execute("COMMIT")
        if write:
            catalogue_proof.end_change(place)
        hand_over(folder)
    except (OSError, sqlite3.Error, zlib.error, UnicodeDecodeError) as error:
        raise DuneChestError(
            f"The catalogue in {shown(str(place))} cannot be used ({error}). Delete it; it is filled again from the drives."
        ) from error
    finally:
        alone.close()


def _connect(place: Path) -> sqlite3.Connection:
    for again in (False, True):
        os.close(os.open(place, os.O_RDWR | os.O_CREAT, 0o600))  # the names of all files are nobody else's business
        connection = sqlite3.connect(place, timeout=30, isolation_level=None)
        try:
            connection.execute("PRAGMA synchronous = OFF")
            connection.execute("PRAGMA cache_size = -65536")
            connection.execute("PRAGMA mmap_size = 4294967296")
            (form,) = connection.execute("PRAGMA user_version").fetchone()
            if form == _FORM:
                connection.execute("SELECT 1 FROM files LIMIT 1").fetchone()
                return connection
            if form == 0 and not connection.execute("SELECT 1 FROM sqlite_master LIMIT 1").fetchone():
                catalogue_proof.begin_change(place)
                connection.execute("PRAGMA page_size = 32768")
                connection.execute("VACUUM")
                connection.executescript(f"BEGIN IMMEDIATE; {_TABLES} PRAGMA user_version = {_FORM}; COMMIT;")
                return connection
        except sqlite3.DatabaseError as error:
            connection.close()
            busy = isinstance(error, sqlite3.OperationalError) and "locked" in str(error)
            if again or busy:
                raise
        else:
            connection.close()
        for name in (place.name, f"{place.name}-wal", f"{place.name}-shm"):
            place.with_name(name).unlink(missing_ok=True)
    raise sqlite3.DatabaseError("it is damaged")
