"""Columns of an SQLite database that hold paths, asked without a trace and without trust."""

from __future__ import annotations

import re
import sqlite3
from collections.abc import Iterator
from pathlib import Path

from dunechest.library.formats.base import LONGEST, Raw, UnreadableError
from dunechest.library.formats.sqlite import questions
from dunechest.library.kinds.schema import Parts, References
from dunechest.regex import late

#: Seconds that a question to a database may take: a hostile view would take for ever.
PATIENCE = 60.0
_ALLOWED = frozenset({sqlite3.SQLITE_SELECT, sqlite3.SQLITE_READ, sqlite3.SQLITE_FUNCTION})


def read_sqlite(path: Path, spec: References) -> Iterator[Raw]:
    """Read the paths in a column: whole ones, or a folder and a name."""
    columns, joins = _columns(spec)
    source = " ".join([quoted(spec.table), *joins])
    own = f"{quoted(spec.table)}.rowid"
    sql = f"SELECT {own}, {', '.join(columns)} FROM {source}"  # noqa: S608 - every name is quoted
    for number, *pieces in _rows(path, sql):
        if (text := join_path(pieces)) is not None:
            yield Raw(f"{spec.table} {number}", text)


def part_rows(path: Path, part: Parts, spec: References) -> Iterator[tuple[str, str | None]]:
    """Yield the name of each part, and the paths of its files one by one; None for a part without any."""
    columns, joins = _columns(spec)
    names = f"{quoted(part.table)}.{quoted(part.column)}"
    for (name,) in _rows(path, f"SELECT DISTINCT {names} FROM {quoted(part.table)}"):  # noqa: S608
        if isinstance(name, str) and name:
            yield name, None
    chain = _chain(part)
    source = " ".join([quoted(part.table), *chain, *joins])
    for name, *pieces in _rows(path, f"SELECT {names}, {', '.join(columns)} FROM {source}"):  # noqa: S608
        if isinstance(name, str) and name and (text := join_path(pieces)) is not None:
            yield name, text


def _columns(spec: References) -> tuple[list[str], list[str]]:
    own = quoted(spec.table)
    columns = [f"{own}.{quoted(spec.column)}"]
    joins = []
    if spec.folder:
        table, dot, column = spec.folder.rpartition(".")
        columns.insert(0, f"{quoted(table) if dot else own}.{quoted(column)}")
        if dot and spec.join:
            joins.append(f"JOIN {quoted(table)} ON {_equal(spec.join)}")
    return columns, joins


def _chain(part: Parts) -> list[str]:
    """Return the JOIN clauses of a part; each brings in the table that is not there yet."""
    there = {part.table}
    clauses = []
    for join in part.joins:
        tables = [side.strip().partition(".")[0] for side in join.split("=")]
        new = next((table for table in tables if table not in there), tables[-1])
        there.add(new)
        clauses.append(f"JOIN {quoted(new)} ON {_equal(join)}")
    return clauses


def _equal(join: str) -> str:
    sides = []
    for side in join.split("="):
        table, _, column = side.strip().partition(".")
        sides.append(f"{quoted(table)}.{quoted(column)}")
    return " = ".join(sides)


def quoted(name: str) -> str:
    """Return a name of a table or column as SQL has it."""
    return '"' + name.replace('"', '""') + '"'


def as_text(value: object) -> object:
    """Return a path that is stored as bytes as the text it is; anything else as it is."""
    if isinstance(value, bytes) and len(value) <= LONGEST and b"\0" not in value:
        return value.decode("utf-8", "surrogateescape")
    return value


def join_path(pieces: list[object]) -> str | None:
    """Join a folder and a name as they were written."""
    if len(pieces) == 2 and type(pieces[0]) is str and type(pieces[1]) is str:  # as nearly always
        folder, name = pieces[0], pieces[1]
        if not name:
            return None
        return folder + name if folder[-1:] in ("", "/", "\\") else folder + _between(folder) + name
    pieces = [as_text(piece) for piece in pieces]
    if not all(isinstance(piece, str) for piece in pieces) or not pieces[-1]:
        return None
    if len(pieces) == 1:
        return str(pieces[0])
    folder, name = map(str, pieces)
    if not folder or folder.endswith(("/", "\\")):
        return folder + name
    return folder + _between(folder) + name


def folder_of(text: str) -> str:
    r"""Return the folder of a path in a column, whichever system wrote it.

    >>> folder_of("/home/tern/a.jpg"), folder_of(r"C:\Users\tern\a.jpg")
    ('/home/tern', 'C:\\Users\\tern')
    """
    return text.rpartition(_between(text))[0]


def _between(text: str) -> str:
    return "\\" if "\\" in text and "/" not in text else "/"


def _rows(path: Path, sql: str) -> Iterator[tuple[object, ...]]:
    try:
        with questions(path, seconds=PATIENCE) as connection:
            connection.text_factory = lambda raw: raw.decode("utf-8", "surrogateescape")
            connection.setlimit(sqlite3.SQLITE_LIMIT_LENGTH, LONGEST)
            yield from connection.execute(sql)
    except (sqlite3.Error, OSError) as error:
        raise UnreadableError(f"SQLite cannot answer: {error}") from error


#: Values of a column that are looked at, and the share of them that must look like paths.
_SAMPLE, _ENOUGH = 200, 0.5
#: Seconds that all columns of a database together may take.
_LOOKING = 20.0
_LIKE_PATH = late(
    r"(?:/|~/|file:/|[A-Za-z]:[\\/]|\\\\)[^\x00-\x1f]*[^\x00-\x1f/\\]"
    r"|(?![a-z][a-z0-9+.-]+:)[^\x00-\x1f<>|*?\"]*[/\\][^\x00-\x1f<>|*?\"/\\]*\.\w{1,8}",
    re.IGNORECASE,
)


def path_columns(path: Path) -> list[tuple[str, str]]:
    """Return table and column of those columns of a database whose values look like paths, as text or as bytes.

    What a table of a special sort keeps for itself (a search index) is passed over, and so are views and columns that
    are computed: none of these can be updated by itself.

    Raises
    ------
    UnreadableError
        If SQLite cannot answer.
    """
    found = []
    try:
        with questions(path, seconds=_LOOKING) as connection:
            connection.text_factory = lambda raw: raw.decode("utf-8", "surrogateescape")
            made = connection.execute("SELECT name, sql FROM sqlite_master WHERE type = 'table'").fetchall()
            special = tuple(f"{name}_" for name, sql in made if str(sql).upper().startswith("CREATE VIRTUAL"))
            for name, sql in made:
                if not sql or f"{name}_" in special or name.startswith((*special, "sqlite_")):
                    continue
                for column in connection.execute(f"PRAGMA table_xinfo({quoted(name)})").fetchall():
                    if column[6] == 0 and _holds_paths(connection, name, column[1]):
                        found.append((name, column[1]))
    except (sqlite3.Error, OSError) as error:
        raise UnreadableError(f"SQLite cannot answer: {error}") from error
    return found


def _holds_paths(connection: sqlite3.Connection, table: str, column: str) -> bool:
    own = f"{quoted(table)}.{quoted(column)}"
    sql = f"SELECT rowid, {own} FROM {quoted(table)} WHERE typeof({own}) IN ('text', 'blob') LIMIT {_SAMPLE}"  # noqa: S608
    try:
        rows = [as_text(row[1]) for row in connection.execute(sql)]
    except sqlite3.OperationalError as error:
        if "no such column: rowid" in str(error):
            return False  # rows without a number cannot be told apart here
        raise
    like = sum(isinstance(row, str) and _LIKE_PATH.fullmatch(row) is not None for row in rows)
    return like > 0 and like >= len(rows) * _ENOUGH
