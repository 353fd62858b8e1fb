"""Files small enough for one buffer: read whole, written whole, around the cache where the system allows it."""

from __future__ import annotations

import errno
import mmap
import os
import sys
import threading

from dunechest.transfer import disk, holes, medium
from dunechest.transfer.tasks import AROUND, WHOLE

READING = (
    os.O_RDONLY
    | getattr(os, "O_NOFOLLOW", 0)
    | getattr(os, "O_NONBLOCK", 0)
    | getattr(os, "O_CLOEXEC", 0)
    | getattr(os, "O_BINARY", 0)
)
WRITING_NEW = (
    os.O_RDWR
    | os.O_CREAT
    | os.O_EXCL
    | getattr(os, "O_NOFOLLOW", 0)
    | getattr(os, "O_CLOEXEC", 0)
    | getattr(os, "O_BINARY", 0)
)


def _umask() -> int:
    """Ask for this process's umask, which can only be asked for by setting it."""
    mask = os.umask(0o077)
    os.umask(mask)
    return mask


#: Permission bits that new files of this process do not get.
UMASK = _umask()


def system_words(error: BaseException | None) -> str:
    """Return what the system says of an error, with the name of its number."""
    if isinstance(error, OSError):
        return f"{error.strerror or error} ({errno.errorcode.get(error.errno or 0, error.errno)})"
    return str(error)


class _Buffer(threading.local):
    """One buffer a thread, page-aligned as uncached reading and writing asks for, and used again and again.

    Fresh memory for each file would cost more than reading it.
    """

    def __init__(self) -> None:
        self._map: mmap.mmap | None = None

    def view(self) -> memoryview:
        """Return all of it: a block more than the largest file it is used for."""
        if self._map is None:
            self._map = mmap.mmap(-1, WHOLE + _BLOCK)
        return memoryview(self._map)


_BLOCK = 4096
_BUFFER = _Buffer()


def read_whole(fd: int, size: int) -> bytes | memoryview:
    """Read an open file to its end, one byte more than expected being enough to see that it grew.

    A memoryview of the thread's buffer is good until the next call.
    """
    if size < AROUND or not hasattr(os, "preadv"):
        return _read_bytes(fd, size)
    view = _BUFFER.view()
    done = 0
    # A whole number of blocks is asked for each time, as long as reading goes around the cache.
    while done <= size and (got := os.preadv(fd, [view[done : size + _BLOCK - size % _BLOCK]], done)):
        done += got
        if done % _BLOCK:
            break
    return view[:done]


def read_again(fd: int, size: int) -> bytes | memoryview:
    """Read an open file that was read or written before, from its beginning; as `read_whole`."""
    if sys.platform != "win32" and size < AROUND:
        data = os.pread(fd, size + 1, 0)
        if len(data) == size:
            return data
    os.lseek(fd, 0, os.SEEK_SET)
    return read_whole(fd, size)


def _read_bytes(fd: int, size: int) -> bytes:
    data = os.read(fd, size + 1)
    if len(data) == size:
        return data
    parts = [data]
    while parts[-1] and sum(map(len, parts)) <= 2 * WHOLE:
        parts.append(os.read(fd, WHOLE))
    return b"".join(parts)


def write_whole(fd: int, data: bytes | memoryview, around: bool) -> None:
    """Write all of a file; `around` says that the cache is bypassed, so that whole blocks go first."""
    rest = memoryview(data)
    if around:
        body = len(rest) - len(rest) % _BLOCK
        try:
            while body:
                count = disk.write(fd, rest[:body])
                rest, body = rest[count:], body - count
                if count % _BLOCK:
                    break
        except OSError as error:
            if error.errno != errno.EINVAL:  # this filesystem wants other blocks
                raise
        medium.bypass(fd, False)
    while rest:
        rest = rest[disk.write(fd, rest) :]


def write_pieces(fd: int, data: memoryview, where: holes.Data) -> None:
    """Write what is no hole of a file, and give it its size."""
    for offset, piece in holes.pieces_of(data, 0, where):
        while piece:
            count = disk.write_at(fd, piece, offset)
            piece, offset = piece[count:], offset + count
    disk.set_size(fd, len(data))


def close_written(fd: int) -> None:
    """Close a written file. A drive that is gone says so here once more; the other files are closed all the same."""
    try:
        os.close(fd)
    except OSError:
        pass  # what it held was flushed and proven before, or is given up


def discard(path: bytes) -> None:
    """Remove a file that is given up, if the drive still lets it be removed."""
    try:
        disk.remove(path)
    except OSError:
        pass  # the drive is gone; its next opening clears it away
