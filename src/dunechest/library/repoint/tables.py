"""Write new paths into the columns of an SQLite database that hold them."""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Iterable, Mapping
from pathlib import Path

import msgspec

from dunechest.library.formats.sqlite import writing
from dunechest.library.formats.tables import as_text, join_path, quoted
from dunechest.library.kinds.schema import References


def rewrite_sqlite(path: Path, spec: References, wanted: Mapping[tuple[str, str], str]) -> list[tuple[str, str, str]]:
    """Write new paths into a column: whole ones, or a folder and a name.

    A folder in a table of its own is changed once for all that lie in it; where they
    would go to several places, it stays.

    Returns
    -------
    list of tuple
        Spot and text of those that could not be written, and why.
    """
    with writing(path) as connection:
        if not spec.folder:
            _rewrite_column(connection, spec, wanted)
            return []
        return _rewrite_folders(connection, spec, wanted)


def _rewrite_column(connection: sqlite3.Connection, spec: References, wanted: Mapping[tuple[str, str], str]) -> None:
    """Rewrite a column that holds whole paths."""
    table, column = quoted(spec.table), quoted(spec.column)
    rows = connection.execute(f"SELECT rowid, {column} FROM {table}").fetchall()  # noqa: S608
    for number, value in rows:
        new = wanted.get((f"{spec.table} {number}", str(as_text(value))))
        if new is not None:
            put = os.fsencode(new) if isinstance(value, bytes) else new
            connection.execute(f"UPDATE {table} SET {column} = ? WHERE rowid = ?", (put, number))  # noqa: S608


class _Member(msgspec.Struct, frozen=True):
    """A reference that is made of a folder and a name: number of its row, where it is, old and new text."""

    number: int
    spot: str
    text: str
    new: str


def _rewrite_folders(
    connection: sqlite3.Connection, spec: References, wanted: Mapping[tuple[str, str], str]
) -> list[tuple[str, str, str]]:
    """Rewrite paths that are made of a folder and a name, each in a column; return what could not be written, and why."""
    left: list[tuple[str, str, str]] = []
    other, dot, folder_column = spec.folder.rpartition(".")
    holder = other if dot else spec.table
    endings: dict[int, bool] = {}  # whether a folder is written with a divider at its end
    by_folder: dict[int, list[_Member]] = {}
    for number, folder_number, folder, name in connection.execute(_question(spec)).fetchall():
        text = join_path([folder, name])
        endings[folder_number] = isinstance(folder, str) and folder.endswith(("/", "\\"))
        if text is not None:
            spot = f"{spec.table} {number}"
            member = _Member(number, spot, text, wanted.get((spot, text), text))
            by_folder.setdefault(folder_number, []).append(member)
    for folder_number, members in by_folder.items():
        if all(member.text == member.new for member in members):
            continue
        ends = endings[folder_number]
        if not dot:
            _rewrite_members(connection, spec, [m for m in members if m.text != m.new], ends=ends)
            continue
        folders = {_split(member.new)[0] for member in members}
        if len(folders) != 1 or any(_split(member.text)[1] != _split(member.new)[1] for member in members):
            why = "what lies in one folder would go to several places, and the catalogue has one entry for it"
            left += [(member.spot, member.text, why) for member in members if member.text != member.new]
            continue
        (folder,) = folders
        connection.execute(
            f"UPDATE {quoted(holder)} SET {quoted(folder_column)} = ? WHERE rowid = ?",  # noqa: S608
            (os.path.join(folder, "") if ends else folder, folder_number),
        )
    return left


def _question(spec: References) -> str:
    """Return what asks for the rows: number of the row, number of the folder's row, folder, name."""
    table = quoted(spec.table)
    other, dot, folder_column = spec.folder.rpartition(".")
    holder = quoted(other if dot else spec.table)
    source = table
    if dot and spec.join:
        first, second = (side.strip().partition(".")[::2] for side in spec.join.split("="))
        one_side, other_side = (f"{quoted(t)}.{quoted(c)}" for t, c in (first, second))
        source += f" JOIN {quoted(other)} ON {one_side} = {other_side}"
    columns = f"{table}.rowid, {holder}.rowid, {holder}.{quoted(folder_column)}, {table}.{quoted(spec.column)}"
    return f"SELECT {columns} FROM {source}"  # noqa: S608


def _rewrite_members(
    connection: sqlite3.Connection, spec: References, members: Iterable[_Member], *, ends: bool
) -> None:
    """Rewrite folder and name of references that have both in their own row; `ends` with a divider at the folder's end."""
    table, folder_column, column = quoted(spec.table), quoted(spec.folder), quoted(spec.column)
    for member in members:
        folder, name = _split(member.new)
        connection.execute(
            f"UPDATE {table} SET {folder_column} = ?, {column} = ? WHERE rowid = ?",  # noqa: S608
            (os.path.join(folder, "") if ends else folder, name, member.number),
        )


def _split(path: str) -> tuple[str, str]:
    at = max(path.rfind("/"), path.rfind("\\"))
    return (path[:at] or path[: at + 1], path[at + 1 :]) if at >= 0 else ("", path)
