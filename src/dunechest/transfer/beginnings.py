"""The beginnings of many files, with many reads in flight.

A drive that is asked for one small file after the other waits for each; asked for a number of them at once, it fetches
them in the order that suits it.
"""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator, Sequence
from itertools import islice
from typing import TypeVar

from dunechest.transfer import medium, safe

#: So many files are asked for at once: many enough for any drive, and few enough to be open together.
TOGETHER = 64

_Item = TypeVar("_Item")


def in_groups(items: Iterable[_Item], size: int = TOGETHER) -> Iterator[list[_Item]]:
    """Yield items in lists of at most so many."""
    source = iter(items)
    while group := list(islice(source, size)):
        yield group


def beginnings(wanted: Sequence[tuple[str | os.PathLike[str], int]]) -> list[bytes]:
    """Return the first bytes of files; nothing of one that cannot be read or is no regular file.

    Parameters
    ----------
    wanted : sequence of (path, int)
        The files, and how many bytes of each; at most `TOGETHER` of them are asked for at once.
    """
    found: list[bytes] = []
    for group in in_groups(wanted):
        opened = [_open(path, most if len(group) > 1 else 0) for path, most in group]
        found += [_read(fd, most) for fd, (_, most) in zip(opened, group, strict=True)]
    return found


def _open(path: str | os.PathLike[str], expected: int) -> int | None:
    """Open a file, and have the system start to read it."""
    try:
        fd = safe.open_regular(path)
    except (OSError, ValueError):
        return None
    if expected:
        try:
            medium.expect(fd, expected)
        except OSError:
            pass  # then it is read when it is asked for
    return fd


def _read(fd: int | None, most: int) -> bytes:
    if fd is None:
        return b""
    try:
        content = os.read(fd, most)
        while content and len(content) < most and (more := os.read(fd, most - len(content))):
            content += more
        return content
    except OSError:
        return b""
    finally:
        os.close(fd)
