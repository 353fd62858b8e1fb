"""What the ledger knows, a table for each sort of event: its columns, and which events replace an earlier one."""

from __future__ import annotations

import hashlib
from collections.abc import Iterable
from typing import Any

import msgspec

#: Characters of a key.
_LONG = 250


class _Needed:
    """Stands for a value that each event of a sort has."""


NEEDED = _Needed()


class Column(msgspec.Struct, frozen=True):
    """A column: its name, the type of its values, and what stands there if an event does not say; `NEEDED` if it must."""

    name: str
    type: type
    default: Any = NEEDED


class Table(msgspec.Struct, frozen=True):
    """A table: its columns, and those that make a key.

    An event replaces what it says of a row with its key. `when` is the column of the event's moment (seconds since 1970).
    Of what happens again and again, such as checks, the key says which earlier one nobody asks for any more.
    """

    columns: tuple[Column, ...]
    key: tuple[str, ...]
    when: str = "when"


_WHERE = Column("where", str, "")
#: Which computer said so: its id in logs, empty for this one.
_BY = Column("by", str, "")

#: Whether an archive made the bag; it is told by the number of the edition.
_FIRST = "first"

#: The tables, by the sort of event that they hold.
TABLES = {
    "chest": Table(
        (
            Column("id", str), Column("label", str), Column("folder", str), Column("address", str, ""),
            Column("seen", float),
        ),
        ("id",),
        "seen",
    ),
    "archive": Table(
        (
            Column("chest", str), Column("bag", str), Column("origin", str), Column("edition", int),
            Column("files", int), Column("bytes", int), Column("top", str, ""), Column("when", float), _WHERE, _BY,
            Column(_FIRST, bool, False),
        ),
        # The one that made a bag read all of it back; of the others the last one says what is there.
        ("chest", "bag", _FIRST, "where"),
    ),
    "check": Table(
        (
            Column("chest", str), Column("bag", str), Column("quick", bool), Column("intact", bool),
            Column("files", int), Column("wrong", int), Column("when", float), _WHERE, _BY, Column("how", str, ""),
        ),
        ("chest", "bag", "quick", "intact", "where"),
    ),
    "restore": Table(
        (Column("chest", str), Column("bag", str), Column("place", str), Column("files", int), Column("when", float)),
        ("chest", "bag", "place"),
    ),
    "seen": Table(
        (
            Column("place", str), Column("name", str), Column("kind", str), Column("gone", bool, False),
            Column("when", float),
        ),
        ("place",),
    ),
    "round": Table(
        (
            Column("chest", str), Column("bag", str), Column("next", str), Column("wrong", int), Column("files", int),
            Column("when", float), _WHERE,
        ),
        ("chest", "bag"),
    ),
    "drill": Table(
        (
            Column("chest", str), Column("bag", str), Column("edition", int), Column("passed", bool),
            Column("files", int), Column("top", str), Column("when", float), _WHERE, _BY,
        ),
        ("chest", "bag", "passed", "where"),
    ),
    "forget": Table((Column("chest", str), Column("bag", str), Column("when", float)), ("chest", "bag")),
    "hold": Table(
        (
            Column("chest", str), Column("bag", str), Column("name", str, ""), Column("kind", str, ""),
            Column("machine", str, ""), Column("computer", str, ""), Column("origin", str, ""),
            Column("edition", int, 0), Column("archived", float, 0.0), Column("files", int, 0), Column("bytes", int, 0),
            Column("fingerprint", str, ""), Column("partial", bool, False), Column("incomplete", bool, False),
            Column("where", str, ""), Column("drive", str, ""), Column("gone", bool), Column("when", float),
            Column("state", str, ""), Column("follows", str, ""), Column("carried", int, 0),
            Column("disk", str, ""), Column("weak", str, ""), _BY,
        ),
        ("chest", "bag"),
    ),
    # Which states a library had in its place on this computer: archived from there, or restored there.
    "state": Table(
        (
            Column("place", str), Column("state", str), Column("follows", str, ""), Column("gone", bool, False),
            Column("when", float),
        ),
        ("place", "state"),
    ),
    "retire": Table((Column("chest", str), Column("retired", bool), Column("when", float)), ("chest",)),
    "keep": Table((Column("chest", str), Column("place", str), Column("when", float)), ("chest",)),
    "rehome": Table(
        (
            Column("old", str), Column("id", str), Column("name", str), Column("kind", str), Column("place", str),
            Column("below", str), Column("drive", str), Column("way", str), Column("identity", str, ""),
            Column("back", bool, False), Column("move", str, ""), Column("before", str, ""), Column("when", float),
        ),
        ("old",),
    ),
    "aside": Table(
        (
            Column("path", str), Column("id", str), Column("name", str), Column("old", str), Column("listing", str),
            Column("gone", bool, False), Column("when", float),
        ),
        ("path",),
    ),
    "reclaim": Table(
        (
            Column("name", str), Column("place", str), Column("part", str), Column("files", int), Column("bytes", int),
            Column("freed", int), Column("when", float),
        ),
        ("place", "part"),
    ),
    # A line of a chest's log that this computer read or wrote: by which computer, its number and step, and the id, sort and
    # moment of the event. `key` says which earlier ones nobody asks for any more; `at` is the medium. `text` are the facts as
    # JSON, empty where this computer has the event itself; of its own, `upto` is the id of the last event that it had.
    "line": Table(
        (
            Column("chest", str), Column("by", str), Column("number", int), Column("step", int), Column("id", str),
            Column("what", str), Column("key", str), Column("moment", float), Column("text", str, ""),
            Column("same", str, ""), Column("signed", bool), Column("upto", str, ""), Column("at", str, ""),
            Column("when", float),
        ),
        ("chest", "by", "what", "key"),
    ),
    # A computer that wrote into the log of a chest: its id in logs, its name, and its own id in the records of bags.
    "computer": Table(
        (Column("id", str), Column("name", str), Column("machine", str), Column("chest", str), Column("when", float)),
        ("id",),
    ),
    # A chest whose log lacks what this computer knows of it: an older image of its drive was put back.
    "older": Table(
        (
            Column("chest", str), Column("missing", int), Column("numbers", str), Column("when", float), _WHERE,
        ),
        ("chest", "where"),
    ),
    # A library that was not archived to a chest because a person has to decide something first.
    "refused": Table(
        (
            Column("place", str), Column("chest", str), Column("code", str), Column("message", str),
            Column("action", str), Column("when", float),
        ),
        ("place", "chest"),
    ),
    # A next edition that was begun: until it is archived, the library has something that the chest has not.
    "begun": Table(
        (
            Column("place", str), Column("chest", str), Column("bag", str), Column("fingerprint", str, ""),
            Column("when", float),
        ),
        ("place", "chest"),
    ),
    # Files of the home that lie in no library, by the folder that holds them.
    "loose": Table(
        (
            Column("place", str), Column("files", int), Column("bytes", int), Column("standard", bool, False),
            Column("when", float),
        ),
        ("place",),
    ),
    "room": Table(
        (Column("chest", str), Column("free", int), Column("total", int), Column("when", float)),
        ("chest",),
    ),
}  # fmt: skip


def key_of(what: str, facts: dict[str, Any]) -> str:
    """Return what tells the row of an event from others of its sort, as one text; empty for one of another version."""
    table = TABLES.get(what)
    values = values_of(table, facts, 0.0) if table is not None else None
    if table is None or values is None:
        return ""
    defaults = {column.name: column.default for column in table.columns}
    key = msgspec.json.encode([values.get(name, defaults[name]) for name in table.key]).decode()
    # An index takes no text of any length.
    return key if len(key) <= _LONG else f"{key[: _LONG - 66]}#{hashlib.sha256(key.encode()).hexdigest()}"


def rows_after(table: Table, events: Iterable[tuple[dict[str, Any], float, int, str]]) -> list[dict[str, Any]]:
    """Return the rows that events make: facts, moment, turn and id of each, in the order in which they hold."""
    rows: dict[tuple[Any, ...], dict[str, Any]] = {}
    defaults = {column.name: column.default for column in table.columns if column.default is not NEEDED}
    for facts, when, turn, _ in events:
        values = values_of(table, facts, when)
        if values is None:
            continue
        full = defaults | values
        key = tuple(full[name] for name in table.key)
        before = rows.pop(key, None)  # it moves to the end: what was said last comes last
        rows[key] = (full if before is None else before | values) | {"turn": turn}
    return list(rows.values())


def values_of(table: Table, facts: dict[str, Any], when: float) -> dict[str, Any] | None:
    """Return what an event says of a row; None if it does not say what it must, or not in the right form."""
    told = {}
    for column in table.columns:
        value = when if column.name == table.when else facts.get(column.name, NEEDED)
        if column.name == _FIRST:
            value = facts.get("edition") == 1
        if value is NEEDED:
            if column.default is NEEDED:
                return None  # an event of another version
            continue
        kept = fitting(column, value)
        if kept is None:
            return None
        told[column.name] = kept
    return told


def fitting(column: Column, value: Any) -> Any:
    """Return a value as its column has it; None if it does not fit."""
    if column.type is bool and value in (0, 1):
        return bool(value)
    if column.type is float and isinstance(value, int | float) and not isinstance(value, bool):
        return float(value)
    if column.type is int and isinstance(value, int) and not isinstance(value, bool) and abs(value) < 1 << 63:
        return value
    return value if column.type is str and isinstance(value, str) else None
