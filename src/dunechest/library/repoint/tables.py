"""Write new paths into the columns of an SQLite database that hold them."""

from __future__ import annotations

import os
from collections.abc import Mapping
from pathlib import Path

from dunechest.library.formats.sqlite import writing
from dunechest.library.formats.tables import join_path, quoted
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
