"""Which columns of a library's databases hold paths: tried out, value by value."""

from __future__ import annotations

import sqlite3
import time
from collections.abc import Iterator

import msgspec

from dunechest.library import integrity
from dunechest.library.draft.observing import Ground, Observation, Sureness, pattern_of
from dunechest.library.formats.sqlite import questions
from dunechest.library.references.resolve import Target
from dunechest.regex import late

_SAMPLE = 400
_PATIENCE = 20.0
#: Of the values of a column so many must lead to files for the column to hold paths.
_ENOUGH = 0.5
_NAME = late(r"[^\x00-\x1f]{1,1000}")


class Table(msgspec.Struct, frozen=True):
    """A table: its columns, and for a column the table and column it refers to."""

    name: str
    columns: tuple[str, ...]
    leads_to: tuple[tuple[str, str, str], ...]


def databases_in(ground: Ground) -> list[str]:
    """Return the SQLite databases of a library, by their first bytes."""
    return list(integrity.databases_in(ground.folder, ground.listing))


def tables_of(ground: Ground, path: str) -> list[Table]:
    """Return the tables of a database; none if it cannot be asked."""
    try:
        with questions(ground.folder / path) as asked:
            names = [row[0] for row in asked.execute("SELECT name FROM sqlite_master WHERE type = 'table'")]
            return [_table(asked, name) for name in names if not name.startswith("sqlite_")]
    except (sqlite3.Error, OSError):
        return []


def _table(asked: sqlite3.Connection, name: str) -> Table:
    quoted = '"' + name.replace('"', '""') + '"'
    columns = tuple(row[1] for row in asked.execute(f"PRAGMA table_info({quoted})"))
    leads = tuple((row[3], row[2], row[4] or "rowid") for row in asked.execute(f"PRAGMA foreign_key_list({quoted})"))
    return Table(name, columns, leads)


def column_references(ground: Ground, paths: list[str]) -> list[Observation]:
    """Find the columns that hold paths, or a folder and a name, in databases of one sort."""
    first = paths[0]
    tables = tables_of(ground, first)
    by_name = {table.name: table for table in tables}
    whole: list[Observation] = []
    for table in tables:
        for column in table.columns:
            best = _best(ground, first, _values(ground, first, table.name, column))
            if best is not None:
                base, hits, tried = best
                if any(hit.path in ground.files or hit.state == "outside" for hit in hits):
                    keys = _keys(paths, table.name, column, base)
                    whole.append(_observed(keys, len(hits), tried))
    for table in tables:
        for column in table.columns:
            whole += _in_two(ground, paths, table, column, by_name)
    return whole


def _keys(paths: list[str], table: str, column: str, base: str) -> list[tuple[str, object]]:
    keys: list[tuple[str, object]] = [
        ("from", "sqlite"), ("files", [pattern_of(paths)]), ("table", table), ("column", column),
    ]  # fmt: skip
    if base:
        keys.append(("base", base))
    return keys


def _observed(keys: list[tuple[str, object]], hits: int, tried: int) -> Observation:
    share = hits / tried
    sureness: Sureness = "sure" if share > 0.9 and hits > 3 else "likely"
    return Observation("references", tuple(keys), sureness, f"{hits} of {tried} values tried lead to a file")


def _in_two(
    ground: Ground, paths: list[str], table: Table, column: str, by_name: dict[str, Table]
) -> list[Observation]:
    """Find a name in this column whose folder stands in another column, of this table or of one it refers to."""
    names = _values(ground, paths[0], table.name, column)
    if not names or sum("." in name and "/" not in name for name in names) < len(names) * _ENOUGH:
        return []
    candidates = [(other, "", "") for other in table.columns if other != column]
    for own, other_table, key in _joins(table, by_name):
        for other in by_name[other_table].columns:
            join = f"{table.name}.{own} = {other_table}.{key}"
            candidates.append((f"{other_table}.{other}", join, other_table))
    for folder, join, _ in candidates:
        pairs = _pairs(ground, paths[0], table.name, column, folder, join)
        best = _best(ground, paths[0], pairs)
        if best is not None:
            base, hits, tried = best
            keys = _keys(paths, table.name, column, base)
            keys.insert(4, ("folder", folder))
            if join:
                keys.insert(5, ("join", join))
            return [_observed(keys, len(hits), tried)]
    return []


def _joins(table: Table, by_name: dict[str, Table]) -> Iterator[tuple[str, str, str]]:
    """Yield own column, other table, its key: declared ones, then those whose names say it."""
    for own, other, key in table.leads_to:
        if other in by_name:
            columns = by_name[other].columns
            yield own, other, key if key in columns else ("id" if "id" in columns else "rowid")
    declared = {own for own, _, _ in table.leads_to}
    for own in table.columns:
        stem = own.lower().removesuffix("_id").removesuffix("id").strip("_")
        for other, there in by_name.items():
            if own not in declared and stem and other.lower() in (stem, stem + "s") and other != table.name:
                yield own, other, "id" if "id" in there.columns else "rowid"


def _ask(ground: Ground, path: str, sql: str) -> list[tuple[object, ...]]:
    until = time.monotonic() + _PATIENCE
    try:
        with questions(ground.folder / path) as asked:
            asked.text_factory = lambda raw: raw.decode("utf-8", "surrogateescape")
            asked.set_progress_handler(lambda: int(time.monotonic() > until), 100_000)
            return asked.execute(sql).fetchall()
    except (sqlite3.Error, OSError):
        return []


def _quoted(name: str) -> str:
    table, dot, column = name.rpartition(".")
    return ".".join('"' + piece.replace('"', '""') + '"' for piece in ([table, column] if dot else [column]))


def _values(ground: Ground, path: str, table: str, column: str) -> list[str]:
    own = f"{_quoted(table)}.{_quoted(column)}"
    rows = _ask(
        ground,
        path,
        f"SELECT DISTINCT {own} FROM {_quoted(table)} WHERE typeof({own}) = 'text' LIMIT {_SAMPLE}",  # noqa: S608
    )
    return [str(row[0]) for row in rows if _NAME.fullmatch(str(row[0]))]


def _pairs(ground: Ground, path: str, table: str, column: str, folder: str, join: str) -> list[str]:
    there = _quoted(folder) if "." in folder else f"{_quoted(table)}.{_quoted(folder)}"
    source = _quoted(table)
    if join:
        left, right = (side.strip() for side in join.split("="))
        source += f" JOIN {_quoted(folder.partition('.')[0])} ON {_quoted(left)} = {_quoted(right)}"
    sql = f"SELECT {there}, {_quoted(table)}.{_quoted(column)} FROM {source} LIMIT {_SAMPLE}"  # noqa: S608
    rows = _ask(ground, path, sql)
    return [f"{a.rstrip('/')}/{b}" for a, b in rows if isinstance(a, str) and isinstance(b, str) and a and b]


def _best(ground: Ground, database: str, values: list[str]) -> tuple[str, list[Target], int] | None:
    """Try values as paths, relative to the database, to the library and to its top folders."""
    likely = [value for value in values if "/" in value or "\\" in value or "." in value]
    if not likely or len(likely) < len(values) * _ENOUGH:
        return None
    own = database.rpartition("/")[0]
    for base, written in ((own, ""), ("", "."), *((top, top) for top in ground.tops)):
        hits = [target for value in likely if (target := ground.leads(value, base)) is not None]
        if len(hits) >= max(1, len(values) * _ENOUGH):
            return written, hits, len(values)
    return None
