"""Write new paths into the columns of an SQLite database that hold them."""

from __future__ import annotations

import os
import sqlite3
import time
from collections.abc import Iterator, Mapping
from contextlib import closing, contextmanager
from pathlib import Path

from dunechest.library.databases import COMPANIONS
from dunechest.library.kinds import References
from dunechest.library.references.base import Unread
from dunechest.library.references.tables import join_path, quoted
from dunechest.transfer import safe

#: Seconds that the writing may take: a hostile trigger would take for ever.
_PATIENCE = 120.0
_ALLOWED = frozenset(
    {
        sqlite3.SQLITE_SELECT,
        sqlite3.SQLITE_READ,
        sqlite3.SQLITE_FUNCTION,
        sqlite3.SQLITE_UPDATE,
        sqlite3.SQLITE_INSERT,
        sqlite3.SQLITE_DELETE,
        sqlite3.SQLITE_TRANSACTION,
    }
)


@contextmanager
def writing(path: Path) -> Iterator[sqlite3.Connection]:
    """Open a database that nobody else has open, to change rows in it and nothing else; all or nothing.

    What a hostile database could do besides, attach another file or run for ever, is refused.

    Raises
    ------
    Unread
        If SQLite cannot.
    """
    until = time.monotonic() + _PATIENCE
    try:
        os.close(safe.open_regular(path))  # SQLite itself would follow a link
        with closing(sqlite3.connect(path, isolation_level=None)) as connection:
            connection.text_factory = lambda raw: raw.decode("utf-8", "surrogateescape")
            connection.execute("PRAGMA trusted_schema = OFF")
            connection.set_progress_handler(lambda: int(time.monotonic() > until), 100_000)
            connection.set_authorizer(
                lambda action, *rest: sqlite3.SQLITE_OK if action in _ALLOWED else sqlite3.SQLITE_DENY
            )
            connection.execute("BEGIN IMMEDIATE")
            try:
                yield connection
                connection.execute("COMMIT")
            except BaseException:
                if connection.in_transaction:
                    connection.execute("ROLLBACK")
                raise
            finally:
                connection.set_authorizer(None)
    except (sqlite3.Error, OSError, UnicodeEncodeError) as error:
        raise Unread(f"SQLite cannot change it: {error}") from error
    finally:
        for ending in COMPANIONS:
            beside = Path(str(path) + ending)
            if beside.exists() and not beside.stat().st_size:
                beside.unlink()


def rewrite_sqlite(path: Path, spec: References, wanted: Mapping[tuple[str, str], str]) -> list[tuple[str, str, str]]:
    """Write new paths into a column: whole ones, or a folder and a name.

    A folder in a table of its own is changed once for all that lie in it; where they
    would go to several places, it stays.

    Returns
    -------
    list of tuple
        Spot and text of those that could not be written, and why.
    """
    left: list[tuple[str, str, str]] = []
    table = quoted(spec.table)
    with writing(path) as connection:
        if not spec.folder:
            column = quoted(spec.column)
            rows = connection.execute(f"SELECT rowid, {column} FROM {table}").fetchall()  # noqa: S608
            for number, text in rows:
                new = wanted.get((f"{spec.table} {number}", text))
                if new is not None:
                    connection.execute(f"UPDATE {table} SET {column} = ? WHERE rowid = ?", (new, number))  # noqa: S608
            return left
        other, dot, folder_column = spec.folder.rpartition(".")
        holder = other if dot else spec.table
        source = table
        if dot and spec.join:
            first, second = (side.strip().partition(".")[::2] for side in spec.join.split("="))
            one, two = (f"{quoted(t)}.{quoted(c)}" for t, c in (first, second))
            source += f" JOIN {quoted(other)} ON {one} = {two}"
        sql = (
            f"SELECT {table}.rowid, {quoted(holder)}.rowid, {quoted(holder)}.{quoted(folder_column)}, "  # noqa: S608
            f"{table}.{quoted(spec.column)} FROM {source}"
        )
        endings: dict[int, bool] = {}  # whether a folder is written with a divider at its end
        by_folder: dict[int, list[tuple[int, str, str, str]]] = {}
        for number, folder_number, folder, name in connection.execute(sql).fetchall():
            text = join_path([folder, name])
            endings[folder_number] = isinstance(folder, str) and folder.endswith(("/", "\\"))
            if text is not None:
                spot = f"{spec.table} {number}"
                by_folder.setdefault(folder_number, []).append((number, spot, text, wanted.get((spot, text), text)))
        for folder_number, members in by_folder.items():
            if all(text == new for _, _, text, new in members):
                continue
            places = {_split(new) for _, _, _, new in members}
            folders = {place for place, _ in places}
            names_stay = all(_split(text)[1] == _split(new)[1] for _, _, text, new in members)
            if dot and (len(folders) != 1 or not names_stay):
                why = "what lies in one folder would go to several places, and the catalogue has one entry for it"
                left += [(spot, text, why) for _, spot, text, new in members if text != new]
                continue
            for number, _, text, new in members:
                folder, name = _split(new)
                if not dot and text != new:
                    folder = os.path.join(folder, "") if endings[folder_number] else folder
                    connection.execute(
                        f"UPDATE {table} SET {quoted(folder_column)} = ?, {quoted(spec.column)} = ? "  # noqa: S608
                        "WHERE rowid = ?",
                        (folder, name, number),
                    )
            if dot:
                (folder,) = folders
                if endings[folder_number]:
                    folder = os.path.join(folder, "")
                connection.execute(
                    f"UPDATE {quoted(holder)} SET {quoted(folder_column)} = ? WHERE rowid = ?",  # noqa: S608
                    (folder, folder_number),
                )
    return left


def _split(path: str) -> tuple[str, str]:
    at = max(path.rfind("/"), path.rfind("\\"))
    return (path[:at] or path[: at + 1], path[at + 1 :]) if at >= 0 else ("", path)
