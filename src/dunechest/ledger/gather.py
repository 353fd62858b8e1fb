"""Notes become events in the log of the ledger's database, through SQLAlchemy."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

import sqlalchemy as sa
from filelock import FileLock

from dunechest.ledger.events import NOTES
from dunechest.ledger.rows import NAME, noted_in, waiting
from dunechest.ledger.tables import Numbered, last_number, put_events
from dunechest.ledger.upgrade import upgrade
from dunechest.transfer.owner import hand_over, make_own


@contextmanager
def own_ledger(folder: Path) -> Iterator[sa.Connection]:
    """Open this computer's ledger for changing, with all notes gathered; changes are kept if the block ends without an error.

    Parameters
    ----------
    folder : Path
        The state folder.

    Raises
    ------
    OSError, sqlalchemy.exc.DatabaseError
        If that cannot be done.
    ChestUnusableError
        If a later version of Dune Chest made it.
    """
    make_own(folder)
    engine = sa.create_engine(f"sqlite:///{folder / NAME}")
    # SQLite's own module would otherwise make tables outside of the transaction.
    sa.event.listen(engine, "connect", _by_hand)
    sa.event.listen(engine, "begin", _begin)
    try:
        with FileLock(folder / "ledger.lock", timeout=30):
            notes = waiting(folder)
            with engine.begin() as connection:
                upgrade(connection)
                number = last_number(connection, 0)
                for path in notes:
                    events = noted_in(path.name, path.read_bytes())
                    told = [
                        Numbered(own, number + place, event.what, event.when, event.facts)
                        for place, (own, event) in enumerate(events, 1)
                    ]
                    number += len(told)
                    put_events(connection, 0, told)
            _leave_turn(folder / NOTES, notes)
            for path in notes:
                path.unlink(missing_ok=True)
            with engine.begin() as connection:
                yield connection
    finally:
        engine.dispose()
        hand_over(folder)


def _leave_turn(folder: Path, notes: Sequence[Path]) -> None:
    """Leave the name of the last note: a clock that goes back makes no later note come before those that are gathered."""
    if not notes:
        return
    mark = notes[-1].with_suffix(".gathered")
    mark.touch(mode=0o600)
    for old in folder.glob("*.gathered"):
        if old != mark:
            old.unlink(missing_ok=True)


def gather(folder: Path) -> None:
    """Move the notes into the log; each is taken in once, even if a crash comes between. See `own_ledger`."""
    with own_ledger(folder):
        pass


def _by_hand(connection: object, _record: object) -> None:
    connection.isolation_level = None  # type: ignore[attr-defined]


def _begin(connection: sa.Connection) -> None:
    connection.exec_driver_sql("BEGIN IMMEDIATE")
