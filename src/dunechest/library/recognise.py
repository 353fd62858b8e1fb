"""Recognise libraries: by the signs of their kinds, with the evidence."""

from __future__ import annotations

import fnmatch
import functools
import os
import re
import sqlite3
import stat
from collections.abc import Collection, Iterable, Iterator, Mapping
from contextlib import closing
from pathlib import Path
from typing import NamedTuple

import msgspec

from dunechest.library.census import Census, census_of, genuine
from dunechest.library.formats.sqlite import guard, read_only
from dunechest.library.kinds.schema import Kind, Sign
from dunechest.machine.folders import standard_folders
from dunechest.transfer import safe
from dunechest.transfer.placeholder import is_placeholder

#: Three of these make a home, of whoever's: as a whole it is no library, whatever is most of it.
OF_A_HOME = frozenset(
    {"Documents", "Pictures", "Music", "Videos", "Movies", "Desktop", "Downloads", "Library", "AppData"}
    | {".config", ".local", "Public", "Templates"}
)
#: Of so many matches of a pattern a sign is looked for, in the order of their names.
_MOST = 50
#: Bytes of a file in which a text is looked for.
_HEAD = 64 << 10


class Recognised(msgspec.Struct, frozen=True):
    """A folder that shows all signs of a kind, the evidence in words, and the old system it is in, if any.

    `contains` are libraries of other kinds in it.
    """

    path: Path
    kind: Kind
    evidence: tuple[str, ...]
    former: str = ""
    contains: tuple[Recognised, ...] = ()


class InnerLibrary(NamedTuple):
    """A library of another kind inside a library."""

    path: Path
    kind: str


def recognise(
    folder: Path,
    kinds: Iterable[Kind],
    names: Collection[str] | None = None,
    inner: Collection[str] | None = None,
    census: Census | None = None,
) -> Recognised | None:
    """Say of which kind a folder is, or None.

    Parameters
    ----------
    folder : Path
        The folder.
    kinds : iterable of Kind
        Kinds to try; those of an application come first, then the one with most signs wins, then the first by name.
    names, inner : collection of str, optional
        What lies directly in the folder, and which of that is folders, if that is known already.
    census : Census, optional
        What lies in it and below, if that is known already.
    """
    if names is None or inner is None:
        try:
            with os.scandir(folder) as entries:
                kinds_of = {entry.name: entry.is_dir() for entry in entries}
        except OSError:
            return None
        names, inner = kinds_of.keys(), [name for name, is_folder in kinds_of.items() if is_folder]
    there, folders = _Names(names), _Names(inner)
    for kind in in_order(kinds):
        if not all(_first(sign, there, folders) for sign in kind.signs):
            continue
        evidence = []
        for sign in kind.signs:
            if sign.endings:
                census = census or census_of(folder)
                found = None if is_home(names) else _share(sign, census)
            else:
                found = _evidence(folder, sign, names, inner)
            if found is None:
                break
            evidence.append(found)
        else:
            return Recognised(folder, kind, tuple(evidence))
    return None


def is_home(names: Collection[str]) -> bool:
    """Whether a folder with these names in it is somebody's home."""
    return len(OF_A_HOME.intersection(names)) >= 3


def sign_evidence(folder: Path, sign: Sign) -> str | None:
    """Say in words how a folder shows one sign, or None if it does not."""
    if sign.endings:
        return _share(sign, census_of(folder))
    try:
        with os.scandir(folder) as entries:
            inner = {entry.name: entry.is_dir() for entry in entries}
    except OSError:
        return None
    folders = [name for name, is_folder in inner.items() if is_folder]
    return _evidence(folder, sign, inner, folders) if _first(sign, _Names(inner), _Names(folders)) else None


def in_order(kinds: Iterable[Kind]) -> list[Kind]:
    """Return kinds in the order in which they are tried: those of applications first, then those whose signs say most."""
    return sorted(kinds, key=lambda kind: (kind.open, -sum(map(_weight, kind.signs)), kind.name))


def _weight(sign: Sign) -> float:
    return 1 + bool(sign.holds) + bool(sign.endings) / 2


class _Names:
    """Names in one folder, of which it is asked whether some match; there may be many of them, and many who ask."""

    def __init__(self, names: Collection[str]) -> None:
        self.names = names
        self._endings: set[str] | None = None

    def have(self, pattern: str) -> bool:
        """Whether a name matches a pattern."""
        if pattern.startswith("*.") and pattern[2:].isalnum():
            if self._endings is None:
                self._endings = {name[name.rfind(".") :] for name in self.names}
            return pattern[1:] in self._endings
        matches = _compiled(pattern).match
        return any(map(matches, self.names))


@functools.lru_cache(maxsize=1000)
def _compiled(pattern: str) -> re.Pattern[str]:
    return re.compile(fnmatch.translate(pattern))


def _first(sign: Sign, names: _Names, inner: _Names) -> bool:
    """Whether the first piece of a sign's path is there at all: a look at names only, so it is quick."""
    if not sign.path:
        return True
    for path in alternatives(sign.path):
        head, deeper, _ = path.partition("/")
        there = inner if deeper else names
        if "*" in head or "?" in head:
            if there.have(head):
                return True
        # A link to a folder counts too, and is not among the folders.
        elif head in names.names:
            return True
    return False


@functools.lru_cache(maxsize=1000)
def alternatives(pattern: str) -> tuple[str, ...]:
    """Return the patterns that one with ``{a,b}`` stands for.

    >>> alternatives("*.{bib,ris}"), alternatives("a/b")
    (('*.bib', '*.ris'), ('a/b',))
    """
    found = re.search(r"\{([^{}]*)\}", pattern)
    if found is None:
        return (pattern,)
    head, tail = pattern[: found.start()], pattern[found.end() :]
    return tuple(made for choice in found.group(1).split(",") for made in alternatives(head + choice + tail))


def _share(sign: Sign, census: Census) -> str | None:
    """Say how many files there have one of the endings, if there are enough and some that were opened are what they say."""
    endings = [ending for ending in sign.endings if census.endings[ending]]
    number = sum(census.endings[ending] for ending in endings)
    if number < sign.count or number < sign.share * census.files:
        return None
    some = [path for ending in endings for path in census.samples.get(ending, ())]
    if some and not any(genuine(path) for path in some):
        return None
    names = ", ".join(sorted(endings, key=lambda ending: -census.endings[ending])[:4])
    return f"{number:,} of {census.files:,} files: {names}"


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
    if sign.name and not fnmatch.fnmatchcase(folder.name, sign.name):
        return None
    if not sign.path:
        return f"its name, {folder.name}"
    for path in alternatives(sign.path):
        found = _by_path(folder, sign, path, names, inner)
        if found is not None:
            return found
    return None


def _by_path(folder: Path, sign: Sign, path: str, names: Collection[str], inner: Collection[str]) -> str | None:
    """Say what a sign's path leads to, if it is what the sign says."""
    wants_folder = path.endswith("/")
    pieces = path.rstrip("/").split("/")
    there = inner if len(pieces) > 1 or wants_folder else names
    if wants_folder and sign.count > 1:
        found = [text for text in _matching(str(folder), pieces, there) if os.path.isdir(text)]
        enough = len(found) >= max(sign.count, sign.share * len(inner))
        return f"{len(found)} folders {path}" if enough else None
    for number, text in enumerate(_matching(str(folder), pieces, there)):
        place = Path(text)
        if number >= _MOST:
            return None
        if wants_folder:
            if place.is_dir():
                return f"folder {path}"
            continue
        try:
            info = place.stat()
        except (OSError, ValueError):
            continue
        if not stat.S_ISREG(info.st_mode):
            continue
        name = place.relative_to(folder).as_posix()
        if is_placeholder(str(place), info):  # opening it would fetch it: its name must do
            return f"file {name} (a placeholder, not opened)"
        if sign.begins and not _begins(place, sign.begins):
            continue
        if sign.holds and not _holds(place, sign.holds):
            continue
        if sign.tables and not _has_tables(place, sign.tables):
            continue
        if sign.tables:
            return f"database {name} with {', '.join(sign.tables)}"
        if sign.holds:
            return f"file {name} with {sign.holds!r}"
        return f"file {name}" + (f" beginning {sign.begins!r}" if sign.begins else "")
    return None


def _holds(path: Path, text: str) -> bool:
    try:
        with os.fdopen(safe.open_regular(path), "rb") as file:
            return text.encode() in file.read(_HEAD)
    except OSError:
        return False


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
