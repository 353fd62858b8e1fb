"""What this computer remembers of the libraries in a chest, asked in a moment.

A check of ten files would wait longer for the database library to load than for the files. So these few
questions are asked of SQLite directly, and of the notes that have not been gathered yet.
"""

from __future__ import annotations

import sqlite3
from contextlib import closing
from dataclasses import dataclass
from urllib.parse import quote

import msgspec

from dunechest.errors import DuneChestError
from dunechest.ledger.events import NOTES, Event
from dunechest.ledger.folder import state_folder
from dunechest.transfer import safe

_MOST = 1 << 24
#: So many notes are read one by one.
_MANY = 200


@dataclass(frozen=True, slots=True)
class Remembered:
    """A library that this computer met in a chest.

    `met` is when it was last archived or checked here (seconds since 1970); `wrong` counts the faults that the last check
    of every byte found, and `checked` is when that was, None if there was none.
    """

    bag: str
    met: float
    wrong: int = 0
    checked: float | None = None


@dataclass(slots=True)
class _Row:
    what: str
    bag: str
    when: float
    quick: bool = False
    wrong: int = 0
    where: str = ""


def libraries_of(chest: str, where: str = "") -> dict[str, Remembered]:
    """Return the libraries that a chest should hold, as far as this computer met them, by the name of the bag.

    Parameters
    ----------
    chest : str
        The chest's id.
    where : str
        Where the chest is (`dunechest.machine.volumes.identity`): of a copy with the same id nothing counts.
    """
    found: dict[str, Remembered] = {}
    for row in sorted(_rows(chest), key=lambda row: row.when):
        if row.where and where and row.where != where:
            continue
        if row.what == "forget":
            found.pop(row.bag, None)
            continue
        before = found.get(row.bag, Remembered(row.bag, row.when))
        if row.what == "check" and not row.quick:
            found[row.bag] = Remembered(row.bag, row.when, row.wrong, row.when)
        else:
            found[row.bag] = Remembered(row.bag, row.when, before.wrong, before.checked)
    return found


_QUERIES = (
    ("archive", 'SELECT bag, "when", 0, 0, "where" FROM archives WHERE chest = ?'),
    ("check", 'SELECT bag, "when", quick, wrong, "where" FROM checks WHERE chest = ?'),
    ("forget", "SELECT bag, \"when\", 0, 0, '' FROM forgotten WHERE chest = ?"),
)


def _rows(chest: str) -> list[_Row]:
    rows = []
    folder = state_folder()
    waiting = sorted((folder / NOTES).glob("*.jsonl"))
    if len(waiting) > _MANY:
        _gather()
        waiting = sorted((folder / NOTES).glob("*.jsonl"))
    path = folder / "ledger.sqlite"
    if path.is_file():
        try:
            with closing(sqlite3.connect(f"file:{quote(str(path))}?mode=ro", uri=True, timeout=5)) as connection:
                for what, query in _QUERIES:
                    try:
                        for bag, when, quick, wrong, where in connection.execute(query, (chest,)):
                            rows.append(_Row(what, bag, when, bool(quick), wrong, where or ""))
                    except sqlite3.OperationalError:
                        continue  # a ledger of an earlier version: it gets this table or column when it is next opened
        except sqlite3.Error:
            pass  # whoever asks the ledger for more says what is wrong with it
    for note in waiting:
        try:
            lines = safe.read_bounded(note, _MOST).splitlines()
        except (OSError, ValueError):
            continue
        for line in lines:
            row = _of_note(line, chest)
            if row is not None:
                rows.append(row)
    return rows


def _gather() -> None:
    """Have the events gathered into the ledger: reading very many small files takes longer than that."""
    from dunechest.ledger.ledger import open_ledger

    try:
        with open_ledger():
            return
    except DuneChestError:
        return


def _of_note(line: bytes, chest: str) -> _Row | None:
    try:
        note = msgspec.json.decode(line, type=Event)
    except (msgspec.MsgspecError, UnicodeDecodeError):
        return None
    facts = note.facts
    if note.what not in ("archive", "check", "forget") or facts.get("chest") != chest:
        return None
    bag, wrong = facts.get("bag"), facts.get("wrong", 0)
    if not isinstance(bag, str) or not isinstance(wrong, int):
        return None
    return _Row(note.what, bag, note.when, bool(facts.get("quick")), wrong, str(facts.get("where", "")))
