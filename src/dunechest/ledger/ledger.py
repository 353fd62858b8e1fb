"""The ledger: an SQLite database of the events, asked through SQLAlchemy."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import msgspec
import sqlalchemy as sa
from filelock import FileLock
from sqlalchemy.dialects.sqlite import insert

from dunechest.errors import DuneChestError
from dunechest.ledger.events import NOTES, Event
from dunechest.ledger.folder import state_folder
from dunechest.transfer.owner import hand_over, make_own

_meta = sa.MetaData()

chests = sa.Table(
    "chests",
    _meta,
    sa.Column("id", sa.String, primary_key=True),
    sa.Column("label", sa.String, nullable=False),
    sa.Column("folder", sa.String, nullable=False),
    sa.Column("seen", sa.Float, nullable=False),
)
archives = sa.Table(
    "archives",
    _meta,
    sa.Column("number", sa.Integer, primary_key=True),
    sa.Column("chest", sa.String, nullable=False, index=True),
    sa.Column("bag", sa.String, nullable=False),
    sa.Column("origin", sa.String, nullable=False),
    sa.Column("edition", sa.Integer, nullable=False),
    sa.Column("files", sa.Integer, nullable=False),
    sa.Column("bytes", sa.Integer, nullable=False),
    sa.Column("top", sa.String, nullable=False, default=""),
    sa.Column("when", sa.Float, nullable=False),
    sa.Column("where", sa.String, nullable=False, default="", server_default=""),
)
checks = sa.Table(
    "checks",
    _meta,
    sa.Column("number", sa.Integer, primary_key=True),
    sa.Column("chest", sa.String, nullable=False, index=True),
    sa.Column("bag", sa.String, nullable=False),
    sa.Column("quick", sa.Boolean, nullable=False),
    sa.Column("intact", sa.Boolean, nullable=False),
    sa.Column("files", sa.Integer, nullable=False),
    sa.Column("wrong", sa.Integer, nullable=False),
    sa.Column("when", sa.Float, nullable=False),
    sa.Column("where", sa.String, nullable=False, default="", server_default=""),
)
restores = sa.Table(
    "restores",
    _meta,
    sa.Column("number", sa.Integer, primary_key=True),
    sa.Column("chest", sa.String, nullable=False),
    sa.Column("bag", sa.String, nullable=False),
    sa.Column("place", sa.String, nullable=False),
    sa.Column("files", sa.Integer, nullable=False),
    sa.Column("when", sa.Float, nullable=False),
)
seen = sa.Table(
    "seen",
    _meta,
    sa.Column("place", sa.String, primary_key=True),
    sa.Column("name", sa.String, nullable=False, index=True),
    sa.Column("kind", sa.String, nullable=False),
    sa.Column("when", sa.Float, nullable=False),
)

rounds = sa.Table(
    "rounds",
    _meta,
    sa.Column("chest", sa.String, primary_key=True),
    sa.Column("bag", sa.String, primary_key=True),
    sa.Column("next", sa.String, nullable=False),
    sa.Column("wrong", sa.Integer, nullable=False),
    sa.Column("files", sa.Integer, nullable=False),
    sa.Column("when", sa.Float, nullable=False),
)

drills = sa.Table(
    "drills",
    _meta,
    sa.Column("number", sa.Integer, primary_key=True),
    sa.Column("chest", sa.String, nullable=False, index=True),
    sa.Column("bag", sa.String, nullable=False),
    sa.Column("edition", sa.Integer, nullable=False),
    sa.Column("passed", sa.Boolean, nullable=False),
    sa.Column("files", sa.Integer, nullable=False),
    sa.Column("top", sa.String, nullable=False),
    sa.Column("when", sa.Float, nullable=False),
    sa.Column("where", sa.String, nullable=False, default="", server_default=""),
)

forgotten = sa.Table(
    "forgotten",
    _meta,
    sa.Column("chest", sa.String, primary_key=True),
    sa.Column("bag", sa.String, primary_key=True),
    sa.Column("when", sa.Float, nullable=False),
)

holdings = sa.Table(
    "holdings",
    _meta,
    sa.Column("chest", sa.String, primary_key=True),
    sa.Column("bag", sa.String, primary_key=True),
    sa.Column("name", sa.String, nullable=False, server_default=""),
    sa.Column("kind", sa.String, nullable=False, server_default=""),
    sa.Column("machine", sa.String, nullable=False, server_default=""),
    sa.Column("computer", sa.String, nullable=False, server_default=""),
    sa.Column("origin", sa.String, nullable=False, server_default=""),
    sa.Column("edition", sa.Integer, nullable=False, server_default="0"),
    sa.Column("archived", sa.Float, nullable=False, server_default="0"),
    sa.Column("files", sa.Integer, nullable=False, server_default="0"),
    sa.Column("bytes", sa.Integer, nullable=False, server_default="0"),
    sa.Column("fingerprint", sa.String, nullable=False, server_default=""),
    sa.Column("partial", sa.Boolean, nullable=False, server_default="0"),
    sa.Column("incomplete", sa.Boolean, nullable=False, server_default="0"),
    sa.Column("where", sa.String, nullable=False, server_default=""),
    sa.Column("drive", sa.String, nullable=False, server_default=""),
    sa.Column("gone", sa.Boolean, nullable=False),
    sa.Column("when", sa.Float, nullable=False),
)

retired = sa.Table(
    "retired",
    _meta,
    sa.Column("chest", sa.String, primary_key=True),
    sa.Column("retired", sa.Boolean, nullable=False),
    sa.Column("when", sa.Float, nullable=False),
)

kept = sa.Table(
    "kept",
    _meta,
    sa.Column("chest", sa.String, primary_key=True),
    sa.Column("place", sa.String, nullable=False),
    sa.Column("when", sa.Float, nullable=False),
)

rooms = sa.Table(
    "rooms",
    _meta,
    sa.Column("chest", sa.String, primary_key=True),
    sa.Column("free", sa.Integer, nullable=False),
    sa.Column("total", sa.Integer, nullable=False),
    sa.Column("when", sa.Float, nullable=False),
)

taken = sa.Table("taken", _meta, sa.Column("note", sa.String, primary_key=True))

_TABLES = {
    "chest": chests,
    "archive": archives,
    "check": checks,
    "restore": restores,
    "seen": seen,
    "round": rounds,
    "drill": drills,
    "forget": forgotten,
    "retire": retired,
    "keep": kept,
    "hold": holdings,
    "room": rooms,
}
_MERGED = {"chest", "seen", "round", "forget", "retire", "keep", "hold", "room"}


@dataclass(frozen=True, slots=True)
class KnownChest:
    """A chest this computer has seen: where it was the last time, and when (seconds since 1970).

    `retired` says since when it is no longer expected, None if it is; `place` where its drive is kept.
    """

    id: str
    label: str
    folder: Path
    seen: float
    retired: float | None = None
    place: str = ""


@dataclass(frozen=True, slots=True)
class Holding:
    """A library in a chest, as this computer last saw it: times in seconds since 1970.

    `machine` is the id of the computer that it came from, `origin` its folder there, made safe to show; `fingerprint` is
    the same for the same state of a library in every chest, and may be empty; `gone` says that it was not there any more.
    """

    chest: str
    bag: str
    name: str
    kind: str
    machine: str
    computer: str
    origin: str
    edition: int
    archived: float
    files: int
    bytes: int
    fingerprint: str
    partial: bool
    incomplete: bool
    where: str
    drive: str
    gone: bool
    when: float


@dataclass(frozen=True, slots=True)
class PastRoom:
    """Bytes free and in all on the drive of a chest, and when that was (seconds since 1970)."""

    free: int
    total: int
    when: float


@dataclass(frozen=True, slots=True)
class PastCheck:
    """The outcome of a verification: counts of files, and when (seconds since 1970)."""

    bag: str
    quick: bool
    intact: bool
    files: int
    wrong: int
    when: float
    where: str = ""


@dataclass(frozen=True, slots=True)
class PastDrill:
    """The outcome of a drill: of which edition, whether it passed, the bag's tag manifest, and when."""

    bag: str
    edition: int
    passed: bool
    top: str
    when: float
    where: str = ""


@dataclass(frozen=True, slots=True)
class Round:
    """A check of a library that was begun: the next file, and what was found wrong and looked at so far."""

    bag: str
    next: str
    wrong: int
    files: int


class Ledger:
    """The ledger's database, with every note of this computer in it."""

    def __init__(self, engine: sa.Engine) -> None:
        self._engine = engine

    def chests(self) -> tuple[KnownChest, ...]:
        """All known chests, by label."""
        rows = self._all(sa.select(chests).order_by(chests.c.label, chests.c.id))
        gone = {r.chest: r.when for r in self._all(sa.select(retired).where(retired.c.retired))}
        places = {r.chest: r.place for r in self._all(sa.select(kept))}
        return tuple(
            KnownChest(r.id, r.label, Path(r.folder), r.seen, gone.get(r.id), places.get(r.id, "")) for r in rows
        )

    def holdings(self) -> tuple[Holding, ...]:
        """What all chests hold, as last seen."""
        rows = self._all(sa.select(holdings).order_by(holdings.c.chest, holdings.c.bag))
        return tuple(Holding(**row._mapping) for row in rows)

    def rooms(self) -> dict[str, PastRoom]:
        """Return how full the drive of each chest was when it was last met, by the chest's id."""
        return {r.chest: PastRoom(r.free, r.total, r.when) for r in self._all(sa.select(rooms))}

    def seen_libraries(self) -> tuple[tuple[str, str, str], ...]:
        """Name, kind and place of all libraries that `find` showed."""
        return tuple((r.name, r.kind, r.place) for r in self._all(sa.select(seen).order_by(seen.c.place)))

    def forgotten_in(self, chest: str) -> dict[str, float]:
        """Bags of a chest that a person removed on purpose, and when that was said."""
        return {r.bag: r.when for r in self._all(sa.select(forgotten).where(forgotten.c.chest == chest))}

    def checks(self, chest: str) -> tuple[PastCheck, ...]:
        """The checks of one chest, the latest first."""
        query = sa.select(checks).where(checks.c.chest == chest)
        rows = self._all(query.order_by(checks.c.when.desc(), checks.c.number.desc()))
        return tuple(PastCheck(r.bag, r.quick, r.intact, r.files, r.wrong, r.when, r.where) for r in rows)

    def drills(self, chest: str) -> tuple[PastDrill, ...]:
        """The drills of one chest, the latest first."""
        query = sa.select(drills).where(drills.c.chest == chest)
        rows = self._all(query.order_by(drills.c.when.desc(), drills.c.number.desc()))
        return tuple(PastDrill(r.bag, r.edition, r.passed, r.top, r.when, r.where) for r in rows)

    def rounds(self, chest: str) -> tuple[Round, ...]:
        """The checks of a chest's libraries that were begun and are not complete."""
        query = sa.select(rounds).where(rounds.c.chest == chest, rounds.c.next != "")
        return tuple(Round(r.bag, r.next, r.wrong, r.files) for r in self._all(query))

    def places_of(self, name: str) -> tuple[Path, ...]:
        """The places of libraries that `find` showed under a name, the latest first."""
        query = sa.select(seen.c.place).where(seen.c.name == name).order_by(seen.c.when.desc())
        return tuple(Path(r.place) for r in self._all(query))

    def library_names(self) -> tuple[str, ...]:
        """The names of libraries that `find` showed."""
        return tuple(r.name for r in self._all(sa.select(seen.c.name).distinct().order_by(seen.c.name)))

    def archived_here(self, chest: str, bag: str, top: str) -> bool:
        """Whether this computer itself made a bag whose tag manifest has that SHA-512 digest."""
        query = sa.select(archives.c.number).where(
            archives.c.chest == chest, archives.c.bag == bag, archives.c.top == top
        )
        return bool(self._all(query))

    def restored_from(self, chest: str, place: str) -> str:
        """Return the bag of a chest that was last restored to a place; empty if none was."""
        query = (
            sa.select(restores.c.bag)
            .where(restores.c.chest == chest, restores.c.place == place)
            .order_by(restores.c.when.desc(), restores.c.number.desc())
            .limit(1)
        )
        return next((r.bag for r in self._all(query)), "")

    def _all(self, query: sa.Select[Any]) -> list[Any]:
        with self._engine.connect() as connection:
            return list(connection.execute(query))


@contextmanager
def open_ledger() -> Iterator[Ledger]:
    """Open the ledger, gather what was noted since, and close it again.

    Raises
    ------
    DuneChestError
        If the database or its folder cannot be used.
    """
    folder = state_folder()
    try:
        make_own(folder)
        engine = sa.create_engine(f"sqlite:///{folder / 'ledger.sqlite'}")
        try:
            with FileLock(folder / "ledger.lock", timeout=30):
                _meta.create_all(engine)
                _add_columns(engine)
                _gather(engine, folder)
            yield Ledger(engine)
        finally:
            engine.dispose()
            hand_over(folder)
    except (OSError, sa.exc.DatabaseError) as error:
        reason = getattr(error, "orig", None) or error
        raise DuneChestError(
            f"The ledger in {folder} cannot be used ({reason}). What is archived does not need it, but this computer "
            "then forgets its checks, its drills and what undo could undo. If it belongs to another user, give it back to "
            "its owner; otherwise move it aside, and name chests by their folder."
        ) from error


def _add_columns(engine: sa.Engine) -> None:
    """Give a ledger of an earlier version the columns that came later."""
    with engine.begin() as connection:
        for table in (archives, checks, drills):
            rows = connection.exec_driver_sql(f"PRAGMA table_info({table.name})")
            if "where" not in {row[1] for row in rows}:
                connection.exec_driver_sql(
                    f"ALTER TABLE {table.name} ADD COLUMN \"where\" VARCHAR NOT NULL DEFAULT ''"
                )


def _gather(engine: sa.Engine, folder: Path) -> None:
    """Move the notes into the database; each is taken in once, even if a crash comes between."""
    waiting = sorted((folder / NOTES).glob("*.jsonl"))
    if not waiting:
        return
    with engine.begin() as connection:
        known = set(connection.scalars(sa.select(taken.c.note)))
        for path in waiting:
            if path.name not in known:
                for line in path.read_bytes().splitlines():
                    _take(connection, line)
                connection.execute(taken.insert().values(note=path.name))
    for path in waiting:
        path.unlink(missing_ok=True)
    with engine.begin() as connection:
        connection.execute(taken.delete())


def _take(connection: sa.Connection, line: bytes) -> None:
    try:
        note = msgspec.json.decode(line, type=Event)
    except (msgspec.MsgspecError, UnicodeDecodeError):
        return  # a line that a crash tore
    table = _TABLES.get(note.what)
    if table is None:
        return
    time_column = "seen" if note.what == "chest" else "when"
    values = {key: value for key, value in note.facts.items() if key in table.c}
    values[time_column] = note.when
    try:
        with connection.begin_nested():
            if note.what in _MERGED:
                row = insert(table).values(values)
                connection.execute(row.on_conflict_do_update(index_elements=list(table.primary_key), set_=values))
            else:
                connection.execute(table.insert().values(values))
    except (sa.exc.IntegrityError, sa.exc.InterfaceError):
        return  # a note of another version, with less in it than this one needs
