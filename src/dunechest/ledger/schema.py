"""The tables of the ledger: one for each sort of event. What is asked and what is gathered both follow this."""

from __future__ import annotations

from typing import Any

import msgspec


class _Needed:
    """Stands for a value that each event of a sort has."""


NEEDED = _Needed()


class Column(msgspec.Struct, frozen=True):
    """A column: its name, the type of its values, and what stands there if an event does not say; `NEEDED` if it must."""

    name: str
    type: type
    default: Any = NEEDED
    index: bool = False


class Table(msgspec.Struct, frozen=True):
    """A table: its name, its columns, and those that make a key.

    An event replaces what it says of a row with its key; without a key each event is a row of its own. `when` is the column
    of the event's moment (seconds since 1970).
    """

    name: str
    columns: tuple[Column, ...]
    key: tuple[str, ...] = ()
    when: str = "when"


_WHERE = Column("where", str, "")

#: The tables, by the sort of event that they hold.
TABLES = {
    "chest": Table(
        "chests",
        (Column("id", str), Column("label", str), Column("folder", str), Column("seen", float)),
        ("id",),
        "seen",
    ),
    "archive": Table(
        "archives",
        (
            Column("chest", str, index=True), Column("bag", str), Column("origin", str), Column("edition", int),
            Column("files", int), Column("bytes", int), Column("top", str, ""), Column("when", float), _WHERE,
        ),
    ),
    "check": Table(
        "checks",
        (
            Column("chest", str, index=True), Column("bag", str), Column("quick", bool), Column("intact", bool),
            Column("files", int), Column("wrong", int), Column("when", float), _WHERE,
        ),
    ),
    "restore": Table(
        "restores",
        (Column("chest", str), Column("bag", str), Column("place", str), Column("files", int), Column("when", float)),
    ),
    "seen": Table(
        "seen",
        (Column("place", str), Column("name", str, index=True), Column("kind", str), Column("when", float)),
        ("place",),
    ),
    "round": Table(
        "rounds",
        (
            Column("chest", str), Column("bag", str), Column("next", str), Column("wrong", int), Column("files", int),
            Column("when", float),
        ),
        ("chest", "bag"),
    ),
    "drill": Table(
        "drills",
        (
            Column("chest", str, index=True), Column("bag", str), Column("edition", int), Column("passed", bool),
            Column("files", int), Column("top", str), Column("when", float), _WHERE,
        ),
    ),
    "forget": Table("forgotten", (Column("chest", str), Column("bag", str), Column("when", float)), ("chest", "bag")),
    "hold": Table(
        "holdings",
        (
            Column("chest", str), Column("bag", str), Column("name", str, ""), Column("kind", str, ""),
            Column("machine", str, ""), Column("computer", str, ""), Column("origin", str, ""),
            Column("edition", int, 0), Column("archived", float, 0.0), Column("files", int, 0), Column("bytes", int, 0),
            Column("fingerprint", str, ""), Column("partial", bool, False), Column("incomplete", bool, False),
            Column("where", str, ""), Column("drive", str, ""), Column("gone", bool), Column("when", float),
        ),
        ("chest", "bag"),
    ),
    "retire": Table("retired", (Column("chest", str), Column("retired", bool), Column("when", float)), ("chest",)),
    "keep": Table("kept", (Column("chest", str), Column("place", str), Column("when", float)), ("chest",)),
    "rehome": Table(
        "homes",
        (
            Column("old", str), Column("id", str), Column("name", str), Column("kind", str), Column("place", str),
            Column("below", str), Column("drive", str), Column("way", str), Column("identity", str, ""),
            Column("back", bool, False), Column("move", str, ""), Column("before", str, ""), Column("when", float),
        ),
        ("old",),
    ),
    "aside": Table(
        "asides",
        (
            Column("path", str), Column("id", str), Column("name", str), Column("old", str), Column("listing", str),
            Column("gone", bool, False), Column("when", float),
        ),
        ("path",),
    ),
    "reclaim": Table(
        "reclaimed",
        (
            Column("name", str), Column("place", str), Column("part", str), Column("files", int), Column("bytes", int),
            Column("freed", int), Column("when", float),
        ),
    ),
    "room": Table(
        "rooms",
        (Column("chest", str), Column("free", int), Column("total", int), Column("when", float)),
        ("chest",),
    ),
}  # fmt: skip
#: The table of the notes that were gathered and perhaps not deleted yet.
TAKEN = "taken"


def values_of(table: Table, facts: dict[str, Any], when: float) -> dict[str, Any] | None:
    """Return what an event says of a row; None if it does not say what it must, or not in the right form."""
    told = {}
    for column in table.columns:
        value = when if column.name == table.when else facts.get(column.name, NEEDED)
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
