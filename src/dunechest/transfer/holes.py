"""Holes: parts of a file that were never written, read as zeros, and take no room.

A disk image of 300 MB with 4 kB in it takes 4 kB. It must not take 300 MB in a chest, nor where it is restored. Where the
data of a file lies is asked of the system (lseek(2), SEEK_DATA and SEEK_HOLE), or was recorded. What is said of holes is
believed only where the bytes are zeros indeed: the digest of a file is that of all its content, holes included.
"""

from __future__ import annotations

import errno
import os
import sys
from collections.abc import Iterator, Sequence

#: Where data lies: first byte and number of bytes of one stretch after the other.
Data = tuple[int, ...]

#: Of a file with more stretches than this nothing is recorded; it is copied whole where its holes cannot be asked of the drive.
MOST = 4096
#: Bytes that must be saved for the trouble.
LEAST = 64 << 10
_ZEROS = bytes(1 << 20)


def is_sparse(info: os.stat_result) -> bool:
    """Whether a file takes so much less room than it has bytes that it may have holes."""
    return info.st_size - getattr(info, "st_blocks", info.st_size) * 512 >= LEAST


def may_be(data: Data, size: int) -> bool:
    """Whether recorded stretches of data can be those of a file of that many bytes: in order, and none beyond its end."""
    at = 0
    for start, count in zip(data[::2], data[1::2], strict=False):
        if start < at or count <= 0 or start + count > size:
            return False
        at = start + count
    return len(data) % 2 == 0


def data_in(fd: int, size: int) -> Data | None:
    """Return where the data of an open file lies; None if it has no holes, or too many, or the system does not tell.

    Parameters
    ----------
    fd : int
        The file.
    size : int
        Its bytes.
    """
    if sys.platform == "win32":
        return None
    found: list[int] = []
    at = 0
    try:
        while at < size:
            try:
                start = os.lseek(fd, at, os.SEEK_DATA)
            except OSError as error:
                if error.errno != errno.ENXIO:  # from here on there is nothing but a hole
                    raise
                break
            end = min(os.lseek(fd, start, os.SEEK_HOLE), size)
            if end <= start:
                break
            found += [start, end - start]
            at = end
            if len(found) > 2 * MOST:
                return None
    except OSError:
        return None
    finally:
        os.lseek(fd, 0, os.SEEK_SET)
    return tuple(found) if size - sum(found[1::2]) >= LEAST else None


def data_bytes(path: bytes, size: int, block: int) -> int:
    """Return how many bytes a copy of a file takes in which holes stay holes, in whole blocks."""
    try:
        fd = os.open(path, os.O_RDONLY | getattr(os, "O_NONBLOCK", 0) | getattr(os, "O_NOFOLLOW", 0))
    except OSError:
        return size
    try:
        data = data_in(fd, size)
    finally:
        os.close(fd)
    return size if data is None else bytes_of(data, block)


def bytes_of(data: Data, block: int) -> int:
    """Return how many bytes the data of a file takes, in whole blocks."""
    return sum((-(-(start + length) // block) - start // block) * block for start, length in stretches(data))


def stretches(data: Sequence[int]) -> Iterator[tuple[int, int]]:
    """Yield first byte and number of bytes of each stretch of data."""
    return zip(data[::2], data[1::2], strict=False)


def pieces_of(view: memoryview, offset: int, data: Data | None) -> Iterator[tuple[int, memoryview]]:
    """Yield what is to be written of a part of a file: place and bytes of each piece that is no hole.

    Parameters
    ----------
    view : memoryview
        The part.
    offset : int
        Where in the file it begins.
    data : tuple of int or None
        Where the data of the file lies; all of it if None. What is not zeros is written wherever it lies.
    """
    if data is None:
        yield offset, view
        return
    at, end = offset, offset + len(view)
    for start, length in stretches(data):
        if start >= end:
            break
        if start + length <= at:
            continue
        yield from _unless_zeros(view[at - offset : max(at, start) - offset], at)
        stop = min(start + length, end)
        yield max(at, start), view[max(at, start) - offset : stop - offset]
        at = stop
    yield from _unless_zeros(view[at - offset :], at)


def _unless_zeros(view: memoryview, offset: int) -> Iterator[tuple[int, memoryview]]:
    for at in range(0, len(view), len(_ZEROS)):
        part = view[at : at + len(_ZEROS)]
        if part != memoryview(_ZEROS)[: len(part)]:
            yield offset + at, part
