r"""The names of the catalogue's files: texts of folders and the names in them, some thousand files each.

``/folder\0name\0name\0/other folder\0name``: a folder begins with a slash, and a name cannot.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any


def text_of(keys: Sequence[tuple[Any, ...]]) -> str:
    """Return the text of a chunk; the first two of each key are folder and name."""
    lines = []
    folder: str | None = None
    for key in keys:
        if key[0] != folder:
            folder = key[0]
            lines.append(f"/{folder}")
        lines.append(key[1])
    return "\0".join(lines)


def paths_in(text: str) -> Iterator[tuple[str, str]]:
    """Yield folder and name of each file of a chunk's text."""
    folder = ""
    for line in text.split("\0"):
        if line.startswith("/"):
            folder = line[1:]
        else:
            yield folder, line


def path_at(text: bytes, place: int) -> str:
    """Return the path of the file at a place in a chunk's text."""
    header = 0
    while True:
        first = text.find(b"\0", header) + 1
        last = text.find(b"\0/", first - 1)
        last = len(text) if last < 0 else last
        count = text.count(b"\0", first, last) + 1
        if place < count or last == len(text):
            folder, name = text[header + 1 : first - 1], text[first:last].split(b"\0")[place]
            return (folder + b"/" + name if folder else name).decode()
        place -= count
        header = last + 1


def hits_in(text: bytes, wanted: Sequence[bytes]) -> Iterator[tuple[int, str]]:
    """Yield place and path (folded) of the files of a chunk whose path has all fragments in it."""
    rarest = min(wanted, key=text.count, default=b"")
    at, counted, place = 0, 0, -1
    while at <= len(text) and (found := text.find(rarest, at)) >= 0:
        start = text.rfind(b"\0", 0, found) + 1
        end = text.find(b"\0", found)
        end = len(text) if end < 0 else end
        if text[start : start + 1] == b"/":  # a folder: all names up to the next one
            header, first, last = start, end + 1, text.find(b"\0/", end)
            last = len(text) if last < 0 else last
        else:
            header = text.rfind(b"\0/", 0, start) + 1
            first, last = start, end
        folder = text[header + 1 : text.find(b"\0", header)]
        missing = [fragment for fragment in wanted if fragment not in folder]
        place += text.count(b"\0", counted, first) - text.count(b"\0/", counted, first)
        counted = first
        for number, name in enumerate(text[first:last].split(b"\0") if first <= last else (), place):
            if all(fragment in name for fragment in missing):
                yield number, (folder + b"/" + name if folder else name).decode()
        at = last + 1
