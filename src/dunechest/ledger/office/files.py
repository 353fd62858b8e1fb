"""Lists of files in an office's ledger: what lies in which chest, so that any computer can search all of them.

A list belongs to the computer that sent it. A computer sends those of its own libraries, and others only if nobody did. Of
several lists of a bag the one of the computer that the library comes from is believed first, then the latest edition.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Generator, Iterable, Iterator, Sequence
from contextlib import closing
from typing import TYPE_CHECKING, Any

import msgspec
import sqlalchemy as sa

from dunechest.ledger.catalogue import Catalogue, folded
from dunechest.ledger.catalogue_rows import BagKey, FileKey, Held, History, Match, PastEdition, PastRole, Query, Row

if TYPE_CHECKING:
    import psycopg

#: Rows that travel at a time.
_MOST = 10_000
_FILES = (
    "INSERT INTO files (listing, computer, folder, name, folded, size, mtime, digest, first, last) "
    "SELECT %s, %s, * FROM unnest(%s::integer[], %s::text[], %s::text[], %s::bigint[], %s::bigint[], %s::bigint[], "
    "%s::integer[], %s::integer[])"
)
_FOLDERS = (
    "INSERT INTO folders (listing, computer, folder, path, folded) "
    "SELECT %s, %s, * FROM unnest(%s::integer[], %s::text[], %s::text[])"
)
#: A row of files with its folder; a list and its rows are of one computer, or the rows do not count.
_FOUND = (
    "SELECT f.listing, d.path, f.name, f.size, f.mtime, f.digest, f.first, f.last FROM files f "
    "JOIN folders d ON d.listing = f.listing AND d.folder = f.folder AND d.computer = f.computer "
    "JOIN listings l ON l.id = f.listing AND l.computer = f.computer WHERE "
)
#: So many fragments of a path are looked up; those beyond are looked for in what was found.
_LOOKED_UP = 3
_NAME = "coalesce(f.folded, f.name)"
_FOLDER = "coalesce(d.folded, d.path)"


class Listing(msgspec.Struct, frozen=True):
    """A list of the files of a bag: its id, the computer that sent it, the bag, and how many files it has."""

    id: int
    computer: int
    bag: BagKey
    files: int


# Sending.


def send_lists(
    connection: sa.Connection,
    computer: int,
    machine: str,
    catalogue: Catalogue,
    tell: Callable[[str, int], object] = lambda name, files: None,
) -> int:
    """Send the lists of bags that the office has not got as they are now; return how many.

    Parameters
    ----------
    connection : sqlalchemy.Connection
        To the office's ledger.
    computer : int
        This computer's number there.
    machine : str
        Its own id.
    catalogue : Catalogue
        What it knows.
    tell : callable
        Told which library is sent, and how many of its files are.
    """
    theirs: set[tuple[str, str, str]] = set()
    ours: dict[tuple[str, str], str] = {}
    for row in connection.execute(sa.text("SELECT computer, chest, bag, top FROM listings")):
        if row.computer == computer:
            ours[row.chest, row.bag] = row.top
        else:
            theirs.add((row.chest, row.bag, row.top))
    past = {(item.chest, item.bag): item for item in catalogue.histories()}
    sent = 0
    for bag in catalogue.bags():
        own = bag.key.startswith(f"{machine}\n")
        if ours.get((bag.chest, bag.bag)) == bag.top or (not own and (bag.chest, bag.bag, bag.top) in theirs):
            continue
        _send(connection, computer, bag, catalogue, past.get((bag.chest, bag.bag)), tell)
        connection.commit()  # a large office takes long; what is sent is sent
        sent += 1
    return sent


def _send(
    connection: sa.Connection,
    computer: int,
    bag: BagKey,
    catalogue: Catalogue,
    past: History | None,
    tell: Callable[[str, int], object],
) -> None:
    key = {"computer": computer, "chest": bag.chest, "bag": bag.bag}
    old = connection.scalar(
        sa.text("SELECT id FROM listings WHERE computer = :computer AND chest = :chest AND bag = :bag"), key
    )
    if old is not None:
        for table in ("files", "folders"):
            connection.execute(sa.text(f"DELETE FROM {table} WHERE listing = :listing"), {"listing": old})  # noqa: S608
        connection.execute(sa.text("DELETE FROM listings WHERE id = :listing"), {"listing": old})
    editions = past.editions if past is not None else ()
    listing = connection.scalar(
        sa.text(
            "INSERT INTO listings (computer, chest, bag, library, name, kind, top, edition, files, editions, roles) VALUES "
            "(:computer, :chest, :bag, :library, :name, :kind, :top, :edition, :files, "
            "CAST(:editions AS jsonb), CAST(:roles AS jsonb)) RETURNING id"
        ),
        key
        | {
            "library": bag.key,
            "name": bag.name,
            "kind": bag.kind,
            "top": bag.top,
            "edition": bag.edition,
            "files": editions[-1].file_count if editions else 0,
            "editions": msgspec.json.encode(editions).decode(),
            "roles": msgspec.json.encode(past.roles if past is not None else ()).decode(),
        },
    )
    raw: Any = connection.connection.dbapi_connection
    done = 0
    with raw.cursor() as cursor:
        for folders, files in _batches(catalogue.rows_of(bag)):
            cursor.execute(_FOLDERS, (listing, computer, *folders))
            cursor.execute(_FILES, (listing, computer, *files))
            done += len(files[0])
            tell(bag.name, done)


def _batches(rows: Iterable[Row]) -> Iterator[tuple[list[list[Any]], list[list[Any]]]]:
    """Yield columns of folders and of files, some thousand rows at a time."""
    numbers: dict[str, int] = {}
    folders: list[tuple[Any, ...]] = []
    files: list[tuple[Any, ...]] = []
    for row in rows:
        number = numbers.get(row.folder)
        if number is None:
            number = numbers[row.folder] = len(numbers) + 1
            folders.append((number, row.folder, _other(row.folder)))
        files.append((number, row.name, _other(row.name), *row[2:]))
        if len(files) == _MOST:
            yield _columns(folders, 3), _columns(files, 8)
            folders, files = [], []
    if files:
        yield _columns(folders, 3), _columns(files, 8)


def _columns(rows: Sequence[tuple[Any, ...]], count: int) -> list[list[Any]]:
    return [list(column) for column in zip(*rows, strict=True)] if rows else [[] for _ in range(count)]


def _other(text: str) -> str | None:
    """Return the form in which a text is searched, if it is another one."""
    form = folded(text)
    return None if form == text else form


# Finding.


def listings_of(connection: sa.Connection, machines: dict[int, str]) -> list[Listing]:
    """Return the list of each bag that is believed.

    Parameters
    ----------
    connection : sqlalchemy.Connection
        To the office's ledger.
    machines : dict
        The own id of each computer, by its number.
    """
    best: dict[tuple[str, str], tuple[tuple[Any, ...], Listing]] = {}
    asked = "SELECT id, computer, chest, bag, library, name, kind, top, edition, files, received FROM listings"
    for row in connection.execute(sa.text(asked)):
        machine = machines.get(row.computer)
        rank = (bool(machine) and row.library.startswith(f"{machine}\n"), row.edition, row.received, row.id)
        key = BagKey(row.chest, row.bag, row.library, row.name, row.kind, row.top, row.edition)
        before = best.get((row.chest, row.bag))
        if before is None or before[0] < rank:
            best[row.chest, row.bag] = rank, Listing(row.id, row.computer, key, row.files)
    return [listing for _, listing in best.values()]


def find_files(connection: sa.Connection, query: Query, most: int, listings: Iterable[Listing]) -> list[Match]:
    """Return files that are looked for in all chests of the office, at most so many.

    Parameters
    ----------
    connection : sqlalchemy.Connection
        To the office's ledger.
    query : Query
        What is looked for.
    most : int
        How many files to return.
    listings : iterable of Listing
        From `listings_of`.
    """
    every = [item for item in listings if query.chests(item.bag.chest)]
    wanted = {
        item.id: item.bag
        for item in every
        if (query.library is None or folded(query.library) == folded(item.bag.name))
        and (query.kind is None or folded(query.kind) == folded(item.bag.kind))
    }
    if not wanted:
        return []
    narrow = len(wanted) < len(every) or query.library is not None
    found: dict[tuple[str, FileKey], None] = {}
    with closing(_candidates(connection, query, list(wanted) if narrow else None)) as rows:
        for row in rows:
            bag = wanted.get(row[0])
            key: FileKey = tuple(row[1:6])
            if bag is None or (query.fits is not None and not query.fits(folded(_path(key)))):
                continue
            found[bag.key, key] = None
            if len(found) >= most:
                break
    held = _holders(connection, found, wanted)
    names = {bag.key: bag for bag in wanted.values()}
    return [Match(names[own].name, names[own].kind, _path(key), key[2], key[3], held[own, key]) for own, key in found]


def _path(key: FileKey) -> str:
    return f"{key[0]}/{key[1]}" if key[0] else key[1]


def _candidates(connection: sa.Connection, query: Query, only: list[int] | None) -> Generator[tuple[Any, ...]]:
    """Yield rows, as they come from the server, of which most are those that are looked for."""
    conditions, values = _facts(query)
    if only is not None:
        conditions.append("f.listing = ANY(%(only)s)")
        values["only"] = only
    wanted = sorted(set(query.fragments), key=len, reverse=True)
    for place, fragment in enumerate(wanted):
        values[f"like{place}"] = "%" + fragment.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_") + "%"
        if place >= _LOOKED_UP:
            conditions.append(f"({_NAME} LIKE %(like{place})s OR {_FOLDER} LIKE %(like{place})s)")
    asked = " UNION ALL ".join(
        _FOUND + (" AND ".join([*case, *conditions]) or "true") for case in _cases(min(len(wanted), _LOOKED_UP))
    )
    with _raw(connection).cursor(name="found") as cursor:
        cursor.itersize = 2000
        cursor.execute(asked, values)
        yield from cursor


def _cases(count: int) -> Iterator[list[str]]:
    """Yield each way in which some fragments are in the name of a file and the others in its folder, no file twice.

    So each can be found by the indexes of letters alone, which know names and folders, but no paths.
    """
    for in_name in itertools.product((True, False), repeat=count):
        case = []
        for place, own in enumerate(in_name):
            like = f"LIKE %(like{place})s"
            case += [f"{_NAME} {like}"] if own else [f"{_FOLDER} {like}", f"NOT {_NAME} {like}"]
        yield case


def _facts(query: Query) -> tuple[list[str], dict[str, Any]]:
    told = {
        "digest": ("f.digest = %(digest)s", query.digest),
        "smallest": ("f.size >= %(smallest)s", query.smallest),
        "largest": ("f.size <= %(largest)s", query.largest),
        "since": ("f.mtime >= %(since)s", query.since),
        "before": ("f.mtime < %(before)s", query.before),
    }
    asked = {name: (text, value) for name, (text, value) in told.items() if value is not None}
    return [text for text, _ in asked.values()], {name: value for name, (_, value) in asked.items()}


def _holders(
    connection: sa.Connection, found: Iterable[tuple[str, FileKey]], wanted: dict[int, BagKey]
) -> dict[tuple[str, FileKey], tuple[Held, ...]]:
    """Return who has each of some files, and in which editions."""
    held: dict[tuple[str, FileKey], list[Held]] = {item: [] for item in found}
    by_library: dict[str, list[FileKey]] = {}
    for own, key in held:
        by_library.setdefault(own, []).append(key)
    asked = (
        _FOUND + "f.listing = ANY(%(listings)s) AND (d.path, f.name) IN "  # noqa: S608 - texts of our own
        "(SELECT * FROM unnest(%(folders)s::text[], %(names)s::text[])) "
        "AND md5(d.path) = ANY(SELECT md5(folder) FROM unnest(%(folders)s::text[]) AS folder)"
    )
    for own, keys in by_library.items():
        listings = [number for number, bag in wanted.items() if bag.key == own]
        places = list(dict.fromkeys(key[:2] for key in keys))
        values = {"listings": listings, "folders": [p[0] for p in places], "names": [p[1] for p in places]}
        for row in _raw(connection).execute(asked, values):
            item = held.get((own, tuple(row[1:6])))
            bag = wanted[row[0]]
            if item is not None:
                item.append(Held(bag.chest, bag.bag, row[6], row[7], bag.edition))
    return {
        key: tuple(sorted(some, key=lambda item: (item.chest, item.bag, -item.first))) for key, some in held.items()
    }


def office_histories(connection: sa.Connection, listings: Iterable[Listing]) -> tuple[History, ...]:
    """Return what is known of every bag beside its files."""
    wanted = {item.id: item.bag for item in listings}
    found = []
    for row in connection.execute(sa.text("SELECT id, editions, roles FROM listings ORDER BY chest, bag")):
        if row.id not in wanted:
            continue
        bag = wanted[row.id]
        try:
            editions = msgspec.convert(row.editions, tuple[PastEdition, ...])
            roles = msgspec.convert(row.roles, tuple[PastRole, ...])
        except msgspec.ValidationError:
            continue  # of another version
        found.append(History(bag.chest, bag.bag, editions, roles))
    return tuple(found)


def _raw(connection: sa.Connection) -> psycopg.Connection[Any]:
    raw: Any = connection.connection.dbapi_connection
    return raw  # type: ignore[no-any-return]
