"""Recognise libraries: by the signs of their kinds, with the evidence, in folders and whole trees."""

from __future__ import annotations

import fnmatch
import os
import sqlite3
import stat
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping
from contextlib import closing
from dataclasses import dataclass, replace
from pathlib import Path

from dunechest.library.formats.sqlite import guard, read_only
from dunechest.library.kinds.schema import Kind, Sign
from dunechest.machine.folders import standard_folders
from dunechest.transfer import safe
from dunechest.transfer.hollow import hollow

#: The file by which a chest is known; `find` does not go into one.
CHEST_MARK = "chest.json"


#: Of so many matches of a pattern a sign is looked for, in the order of their names.
_MOST = 50

#: What lies at the top of a system, in use or left behind; three of them make one. Nobody keeps a library in them.
_SYSTEM = frozenset(
    {"bin", "boot", "dev", "etc", "lib", "lib64", "proc", "run", "sbin", "sys", "usr", "var", "lost+found", "snap"}
    | {"System", "Library", "Applications", "private", "cores"}
    | {"Windows", "Program Files", "Program Files (x86)", "ProgramData", "System Volume Information", "$Recycle.Bin"}
)


@dataclass(frozen=True, slots=True)
class Recognised:
    """A folder that shows all signs of a kind, the evidence in words, and the former system it lies in, if any."""

    path: Path
    kind: Kind
    evidence: tuple[str, ...]
    former: str = ""


def recognise(
    folder: Path, kinds: Iterable[Kind], names: Collection[str] | None = None, inner: Collection[str] | None = None
) -> Recognised | None:
    """Say of which kind a folder is, or None.

    Parameters
    ----------
    folder : Path
        The folder.
    kinds : iterable of Kind
        Kinds to try; the one with most signs wins, then the first by name.
    names, inner : collection of str, optional
        What lies directly in the folder, and which of that is folders, if that is known already.
    """
    if names is None or inner is None:
        try:
            with os.scandir(folder) as entries:
                kinds_of = {entry.name: entry.is_dir() for entry in entries}
        except OSError:
            return None
        names, inner = kinds_of.keys(), [name for name, is_folder in kinds_of.items() if is_folder]
    for kind in sorted(kinds, key=lambda k: (-len(k.signs), k.name)):
        if not all(_first(sign, names, inner) for sign in kind.signs):
            continue
        evidence = []
        for sign in kind.signs:
            found = _evidence(folder, sign, names, inner)
            if found is None:
                break
            evidence.append(found)
        else:
            return Recognised(folder, kind, tuple(evidence))
    return None


def _first(sign: Sign, names: Collection[str], inner: Collection[str]) -> bool:
    """Whether the first piece of a sign's path is there at all: a look at names only, so it is quick."""
    head, deeper, _ = sign.path.partition("/")
    there = inner if deeper else names
    if "*" in head or "?" in head:
        return any(fnmatch.fnmatchcase(name, head) for name in there)
    # A link to a folder counts too, and is not among the folders.
    return head in names


def _matching(folder: str, pieces: list[str], there: Collection[str] | None) -> Iterator[str]:
    """Yield the paths that a pattern leads to, piece by piece; only folders that match are listed."""
    head, *rest = pieces
    if "*" in head or "?" in head:
        if there is None:
            try:
                with os.scandir(folder) as entries:
                    there = [entry.name for entry in entries if not rest or entry.is_dir()]
            except OSError:
                return
        heads = sorted(name for name in there if fnmatch.fnmatchcase(name, head))[:_MOST]
    else:
        heads = [head]
    for name in heads:
        path = os.path.join(folder, name)
        if rest:
            yield from _matching(path, rest, None)
        else:
            yield path


def _evidence(folder: Path, sign: Sign, names: Collection[str], inner: Collection[str]) -> str | None:
    wants_folder = sign.path.endswith("/")
    pieces = sign.path.rstrip("/").split("/")
    there = inner if len(pieces) > 1 or wants_folder else names
    for number, text in enumerate(_matching(str(folder), pieces, there)):
        path = Path(text)
        if number >= _MOST:
            return None
        if wants_folder:
            if path.is_dir():
                return f"folder {sign.path}"
            continue
        try:
            info = path.stat()
        except (OSError, ValueError):
            continue
        if not stat.S_ISREG(info.st_mode):
            continue
        name = path.relative_to(folder).as_posix()
        if hollow(info):  # opening it would fetch it: its name must do
            return f"file {name} (hollow, not opened)"
        if sign.begins and not _begins(path, sign.begins):
            continue
        if sign.tables and not _has_tables(path, sign.tables):
            continue
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
        with closing(guard(read_only(path, immutable=True), 20.0)) as connection:
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
    root: Path,
    kinds: Iterable[Kind],
    unreadable: Callable[[str], None] | None = None,
    *,
    around: Collection[str] = (),
) -> Iterator[Recognised]:
    """Search a whole tree, hidden folders included, for libraries.

    It follows no link, and goes neither into a library it has recognised nor into
    a chest. In the top folder of a system, the present one or a former one that lies
    in some folder, only what people keep there is searched.

    Parameters
    ----------
    root : Path
        Where to begin.
    kinds : iterable of Kind
        What to look for.
    unreadable : callable, optional
        Told the path of each folder that cannot be listed.
    around : collection of str
        Folders to go around.
    """
    every = tuple(sorted(kinds, key=lambda k: (-len(k.signs), k.name)))
    top = str(root)
    pending = [(top, "")]
    while pending:
        place, former = pending.pop()
        names: set[str] = set()
        inner: list[str] = []
        try:
            with os.scandir(place) as entries:
                for entry in entries:
                    names.add(entry.name)
                    if entry.is_dir(follow_symlinks=False):
                        inner.append(entry.name)
        except OSError:
            if unreadable is not None:
                unreadable(place)
            continue
        if CHEST_MARK in names and "bags" in names:
            continue
        found = recognise(Path(place), every, names, inner)
        if found is not None:
            yield replace(found, former=former)
            continue
        if len(_SYSTEM & names) >= 3:
            inner = [name for name in inner if name not in _SYSTEM]
            former = former or ("" if place == os.sep else place)
        below = place if place.endswith(os.sep) else place + os.sep
        for name in sorted(inner, reverse=True):
            if below + name not in around:
                pending.append((below + name, former))
