"""Recognise libraries: by the signs of their kinds, with the evidence, in folders and whole trees."""

from __future__ import annotations

import fnmatch
import os
import sqlite3
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import closing
from dataclasses import dataclass
from pathlib import Path

from dunechest.library.databases import read_only
from dunechest.library.kinds import Kind, Sign
from dunechest.machine.folders import standard_folders
from dunechest.transfer import safe

#: The file by which a chest is known; `find` does not go into one.
CHEST_MARK = "chest.json"


@dataclass(frozen=True, slots=True)
class Recognised:
    """A folder that shows all signs of a kind, and the evidence in words."""

    path: Path
    kind: Kind
    evidence: tuple[str, ...]


def recognise(folder: Path, kinds: Iterable[Kind], names: set[str] | None = None) -> Recognised | None:
    """Say of which kind a folder is, or None.

    Parameters
    ----------
    folder : Path
        The folder.
    kinds : iterable of Kind
        Kinds to try; the one with most signs wins, then the first by name.
    names : set of str, optional
        What lies directly in the folder, if that is known already.
    """
    if names is None:
        try:
            names = set(os.listdir(folder))
        except OSError:
            return None
    for kind in sorted(kinds, key=lambda k: (-len(k.signs), k.name)):
        if not all(_first(sign, names) for sign in kind.signs):
            continue
        evidence = []
        for sign in kind.signs:
            found = _evidence(folder, sign)
            if found is None:
                break
            evidence.append(found)
        else:
            return Recognised(folder, kind, tuple(evidence))
    return None


def _first(sign: Sign, names: set[str]) -> bool:
    """Whether the first piece of a sign's path is there at all: a look at names only, so it is quick."""
    head = sign.path.split("/", 1)[0]
    if "*" in head or "?" in head:
        return any(fnmatch.fnmatchcase(name, head) for name in names)
    return head in names


def _evidence(folder: Path, sign: Sign) -> str | None:
    wants_folder = sign.path.endswith("/")
    pattern = sign.path.rstrip("/")
    try:
        candidates = sorted(folder.glob(pattern))[:50] if "*" in pattern or "?" in pattern else [folder / pattern]
    except (OSError, ValueError):
        return None
    for path in candidates:
        if wants_folder:
            if path.is_dir():
                return f"folder {sign.path}"
            continue
        if not path.is_file():
            continue
        if sign.begins and not _begins(path, sign.begins):
            continue
        if sign.tables and not _has_tables(path, sign.tables):
            continue
        name = path.relative_to(folder).as_posix()
        if sign.tables:
            return f"database {name} with {', '.join(sign.tables)}"
        return f"file {name}" + (f" beginning {sign.begins!r}" if sign.begins else "")
    return None


def _begins(path: Path, text: str) -> bool:
    wanted = text.encode()
    try:
        fd = safe.open_regular(path)
    except OSError:
        return False
    with os.fdopen(fd, "rb") as file:
        return file.read(len(wanted) + 3).removeprefix(b"\xef\xbb\xbf").startswith(wanted)


def _has_tables(path: Path, tables: tuple[str, ...]) -> bool:
    """Ask an SQLite database for its tables without leaving a trace beside it."""
    if not _begins(path, "SQLite format 3"):
        return False
    try:
        with closing(read_only(path, immutable=True)) as connection:
            rows = connection.execute("SELECT name FROM sqlite_master WHERE type = 'table'").fetchall()
    except sqlite3.Error:
        # Damaged, or its tables are still in the write-ahead log: the name and header must do.
        return True
    present = {row[0] for row in rows}
    return set(tables) <= present or not present


def usual_places(kinds: Iterable[Kind], home: Path, system: str) -> Iterator[Path]:
    """Yield the folders where the kinds say their libraries are, that exist in a home."""
    folders = standard_folders(home, system)
    for kind in kinds:
        for place in kind.places.get(system, ()):
            for path in expand(place, folders):
                if path.is_dir():
                    yield path


def expand(place: str, folders: Mapping[str, Path]) -> list[Path]:
    """Turn a place such as ``{pictures}/*`` into paths; hidden folders match a star too."""
    standard, _, rest = place[1:].partition("}")
    base = folders.get(standard)
    if base is None:
        return []
    rest = rest.lstrip("/")
    if not rest:
        return [base]
    try:
        return sorted(base.glob(rest))
    except (OSError, ValueError):
        return []


def search(
    root: Path, kinds: Iterable[Kind], unreadable: Callable[[str], None] | None = None
) -> Iterator[Recognised]:
    """Search a whole tree, hidden folders included, for libraries.

    It follows no link, and goes neither into a library it has recognised nor into
    a chest. `unreadable` is told the path of each folder that cannot be listed.
    """
    every = tuple(kinds)
    pending = [str(root)]
    while pending:
        place = pending.pop()
        names: set[str] = set()
        inner: list[str] = []
        try:
            with os.scandir(place) as entries:
                for entry in entries:
                    names.add(entry.name)
                    if entry.is_dir(follow_symlinks=False):
                        inner.append(entry.path)
        except OSError:
            if unreadable is not None:
                unreadable(place)
            continue
        if CHEST_MARK in names and "bags" in names:
            continue
        found = recognise(Path(place), every, names)
        if found is not None:
            yield found
            continue
        pending.extend(sorted(inner, reverse=True))
