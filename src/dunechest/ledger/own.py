"""What this computer's ledger holds now, read in a moment: from its database, and from the events not yet gathered into it.

A check of ten files would wait longer for a database library to load than for the files, so SQLite is asked directly. Nothing
is written here, unless an earlier version made the database.
"""

from __future__ import annotations

import sqlite3
import time
from contextlib import closing
from itertools import count
from pathlib import Path
from typing import Any
from urllib.parse import quote

import msgspec
from filelock import FileLock

from dunechest import clock
from dunechest.ledger import events
from dunechest.ledger.events import SEAL, Event, is_whole
from dunechest.ledger.folder import state_folder
from dunechest.ledger.lines import Told, order_of
from dunechest.ledger.own_key import own_log_id
from dunechest.ledger.revisions import LAST, REVISIONS, TABLE
from dunechest.ledger.rows import HARMED, NAME, Rows, noted_in, waiting
from dunechest.ledger.trust import my_computers
from dunechest.transfer import safe

#: Bytes of a note.
_MOST = 1 << 24


def own_rows() -> Rows:
    """Return what this computer's ledger holds now.

    Raises
    ------
    OSError, sqlite3.Error
        If it cannot be read.
    """
    found = own_events()
    folder, now = state_folder(), clock.now()
    own, mine = (own_log_id(folder), my_computers()) if "line" in found else ("", {})
    if _made and _made[0][0] is found and _made[0][1:3] == (own, mine) and 0 <= now - _made[0][3] < 1:
        return _made[0][4]
    rows = Rows(found, own, mine)
    _made[:] = [(found, own, mine, now, rows)]
    return rows


#: The rows that were made last in this process, of what, and when: one command asks many times.
_made: list[tuple[dict[str, list[Told]], str, dict[str, str], float, Rows]] = []


def own_events() -> dict[str, list[Told]]:
    """Return the events of this computer's ledger by sort, in the order in which they hold; see `own_rows`.

    Those that are not as they were noted stand under `HARMED`, with what can be read of them.
    """
    folder = state_folder()
    before = _stamps(folder)
    if _read and _read[0][0] == before:
        return _read[0][1]
    found = _read_events(folder)
    _read[:] = [(before, found)] if before == _stamps(folder) else []
    return found


#: What was read last in this process, and the stamps that the files had: one command asks many times.
_read: list[tuple[tuple[object, ...], dict[str, list[Told]]]] = []


def _stamps(folder: Path) -> tuple[object, ...]:
    """Return what is another one as soon as anything was noted or gathered."""
    found: list[object] = [folder]
    for path in (folder / NAME, *waiting(folder)):
        try:
            info = path.stat()
            found.append((path.name, info.st_mtime_ns, info.st_size, info.st_ino))
        except OSError:
            found.append(path.name)
    return tuple(found)


def _read_events(folder: Path) -> dict[str, list[Told]]:
    try:
        return _events(folder)
    except sqlite3.DatabaseError as error:
        if not any(words in str(error) for words in ("not a database", "malformed")):
            raise
        _set_aside(folder)
        return _events(folder)


def _set_aside(folder: Path) -> None:
    """Begin a new database where the old one cannot be read, and note that: chests that are met fill it again."""
    with FileLock(folder / "ledger.lock", timeout=30):
        path = folder / NAME
        safe_name = f"{NAME}.harmed-{time.strftime('%Y-%m-%d', time.gmtime(clock.now()))}"
        for number in count(1):
            aside = folder / (safe_name if number == 1 else f"{safe_name}-{number}")
            if not aside.exists():
                break
        path.replace(aside)
    events.try_append((HARMED, {"what": "ledger", "chest": ""}))


def _events(folder: Path) -> dict[str, list[Told]]:
    # The notes first: what is gathered meanwhile is then seen twice, which can be told, and not never.
    notes = _notes(folder)
    every: list[tuple[str, str, float, dict[str, Any] | None]] = []
    gathered: set[str] = set()
    path = folder / NAME
    if path.is_file():
        _bring_up_to_date(folder)
        with closing(_open(path)) as connection:
            connection.execute("BEGIN")  # all as it is at one moment
            asked = "SELECT id, what, moment, facts FROM latest WHERE computer = 0"
            for event, what, moment, facts in connection.execute(asked):
                moment = moment if isinstance(moment, float) else 0.0
                every.append((str(event), str(what), moment, _facts(facts)))
            for own, _ in notes:
                if connection.execute("SELECT 1 FROM events WHERE computer = 0 AND id = ?", (own,)).fetchone():
                    gathered.add(own)
    every += [(own, event.what, event.when, event.facts) for own, event in notes if own not in gathered]
    found: dict[str, list[Told]] = {}
    # By the turns of their notes: no number that may be harmed, and no clock.
    for turn, (own, what, moment, told) in enumerate(sorted(every, key=lambda item: order_of(item[0]))):
        whole = told is not None and is_whole(own, what, moment, told)
        if told is not None:
            told.pop(SEAL, None)
        facts = told if told is not None and whole else (told or {}) | {"what": what}
        found.setdefault(what if whole else HARMED, []).append(Told(facts, moment, turn, own))
    return found


def _notes(folder: Path) -> list[tuple[str, Event]]:
    found: list[tuple[str, Event]] = []
    for path in waiting(folder):
        try:
            found += noted_in(path.name, safe.read_bounded(path, _MOST))
        except FileNotFoundError:
            continue  # gathered just now
        except ValueError:
            continue  # no note is as large
    return found


def _open(path: Path) -> sqlite3.Connection:
    return sqlite3.connect(f"file:{quote(str(path))}?mode=rw", uri=True, timeout=30)


def _facts(text: object) -> dict[str, Any] | None:
    """Return the facts of a row; None if it is damaged."""
    try:
        return msgspec.json.decode(text, type=dict[str, Any]) if isinstance(text, str) else None
    except (msgspec.MsgspecError, UnicodeDecodeError):
        return None


def _bring_up_to_date(folder: Path) -> None:
    """Give a ledger of an earlier version the tables of this one.

    Raises
    ------
    OSError, sqlite3.Error
        If that cannot be done.
    """
    with closing(_open(folder / NAME)) as connection:
        there = {name for (name,) in connection.execute("SELECT name FROM sqlite_master WHERE type = 'table'")}
        revision = ""
        if TABLE in there:
            row = connection.execute(f"SELECT version_num FROM {TABLE}").fetchone()  # noqa: S608 - a name of our own
            revision = row[0] if row else ""
    if revision == LAST:
        return
    if revision and revision not in REVISIONS:
        raise sqlite3.DatabaseError("a later version of Dune Chest wrote it")
    from sqlalchemy.exc import DatabaseError

    from dunechest.ledger.gather import gather

    try:
        gather(folder)
    except DatabaseError as error:
        raise sqlite3.DatabaseError(str(error.orig)) from error
