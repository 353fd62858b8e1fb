"""What still names an old place: texts and databases of a library that hold it and are not updated."""

from __future__ import annotations

import os
import re
import sqlite3
from collections.abc import Callable, Iterable, Iterator, Sequence
from itertools import islice
from pathlib import Path
from typing import ClassVar
from urllib.parse import quote

import msgspec

from dunechest.library.endings import BINARY, ending
from dunechest.library.formats.sqlite import questions
from dunechest.library.formats.tables import quoted
from dunechest.names import AnyPath
from dunechest.regex import late
from dunechest.transfer.beginnings import beginnings, in_groups
from dunechest.values import Value

#: So many files, and so many bytes of them together, are looked through.
_MOST_FILES, _MOST_BYTES = 20_000, 1 << 30
#: Bytes of one text, and of one database.
_LARGEST_TEXT, _LARGEST_DATABASE = 16 << 20, 256 << 20
_HEAD = 8192
#: Seconds for one database.
_PATIENCE = 20.0
#: What version control keeps compressed.
_PACKED = late(r"(?:^|/)\.git/(?:.*/)?objects/")


class StillNamed(Value, msgspec.Struct, frozen=True):
    """A file that still names an old place, and how often."""

    _shown: ClassVar[tuple[str, ...]] = ("path", "mention_count")

    path: str
    mention_count: int


class OldPlace(Value, msgspec.Struct, frozen=True):
    """Old places, and the files of a library that still name one."""

    _shown: ClassVar[tuple[str, ...]] = ("paths", "files")

    paths: tuple[str, ...] = ()
    files: tuple[StillNamed, ...] = ()


#: Of a library that is where it was.
NO_OLD_PLACE = OldPlace()


def old_names(old_place: str, old_home: str, place: str, home: str) -> tuple[str, ...]:
    """Return what to look for: the old home, or the old place alone where the home is the same or not known."""
    if old_home and old_home != home:
        inside = old_place == old_home or old_place.startswith(old_home.rstrip("/") + "/")
        return (old_home,) if inside or not old_place else (old_home, old_place)
    return (old_place,) if old_place and old_place != place else ()


def pattern_of(names: Sequence[str], new: Sequence[str]) -> re.Pattern[bytes]:
    """Return what finds the names in a text, as they are, percent-encoded, or with backslashes.

    Where a new place begins like an old one, that is not found: it is right.
    """
    alternatives: dict[bytes, None] = {}
    for name in names:
        for spell in (_as_it_is, quote, _backslashes, lambda text: _backslashes(text).replace("\\", "\\\\")):
            rests = [spell(other)[len(spell(name)) :] for other in new if other.startswith(name.rstrip("/") + "/")]
            tail = b"".join(b"(?!" + re.escape(os.fsencode(rest)) + rb"(?![\w.-]))" for rest in rests)
            alternatives[re.escape(os.fsencode(spell(name))) + tail] = None
    return re.compile(b"(?:" + b"|".join(alternatives) + rb")(?![\w-]|\.\w)")


def _as_it_is(text: str) -> str:
    return text


def _backslashes(text: str) -> str:
    return text.replace("/", "\\") if re.match(r"[A-Za-z]:/", text) else text


def still_named(
    files: Iterable[tuple[str, int]], at: Callable[[str], AnyPath | None], wanted: re.Pattern[bytes]
) -> tuple[StillNamed, ...]:
    """Count in which files, and how many times, an old place is named; as many as can be looked through quickly.

    Parameters
    ----------
    files : iterable of pairs
        Path in the library, and bytes.
    at : callable
        Where a file can be read; None if nowhere.
    wanted : re.Pattern
        See `pattern_of`.
    """
    found = []
    total = 0
    for group in in_groups(islice(_looked_through(files, at), _MOST_FILES)):
        if total >= _MOST_BYTES:
            break
        heads = beginnings([(place, _HEAD) for _, _, place in group])
        for (path, size, place), head in zip(group, heads, strict=True):
            count, read = _count(place, size, head, wanted)
            total += read
            if count:
                found.append(StillNamed(path, count))
    return tuple(found)


def _looked_through(
    files: Iterable[tuple[str, int]], at: Callable[[str], AnyPath | None]
) -> Iterator[tuple[str, int, AnyPath]]:
    """Yield path, bytes and place of the files that may be texts or databases."""
    for path, size in sorted(files):
        if not size or size > _LARGEST_DATABASE or ending(path) in BINARY or _PACKED.search(path):
            continue
        place = at(path)
        if place is not None:
            yield path, size, place


def _count(place: AnyPath, size: int, head: bytes, wanted: re.Pattern[bytes]) -> tuple[int, int]:
    """Return how many times a text or a database names it, and the bytes read; nothing of what is neither, or too large."""
    if head.startswith(b"SQLite format 3\0"):
        return _in_database(Path(place), wanted), size
    if b"\0" in head or size > _LARGEST_TEXT:
        return 0, len(head)
    content = head
    if len(head) == _HEAD:
        (content,) = beginnings([(place, _LARGEST_TEXT)])
    return sum(1 for _ in wanted.finditer(content)), len(content)


def _in_database(place: Path, wanted: re.Pattern[bytes]) -> int:
    """Count in the values of a database: in its bytes, what was overwritten may stand, too."""
    count = 0
    try:
        with questions(place, seconds=_PATIENCE) as asked:
            asked.text_factory = bytes
            names = [
                row[0]
                for row in asked.execute("SELECT name FROM sqlite_master WHERE type = 'table' AND sql IS NOT NULL")
            ]
            for name in names:
                rows = asked.execute(f"SELECT * FROM {quoted(name.decode('utf-8', 'surrogateescape'))}")  # noqa: S608
                for row in rows:
                    count += sum(len(wanted.findall(value)) for value in row if isinstance(value, bytes))
    except (sqlite3.Error, OSError):
        return count
    return count
