"""Linux: flush, and get the page cache out of the way, so that a read is a read of the medium."""

from __future__ import annotations

import fcntl
import functools
import os
import sys
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    import ctypes

assert sys.platform == "linux"


@functools.cache
def _libc() -> ctypes.CDLL:
    import ctypes  # takes longer to load than most of what is done here

    return ctypes.CDLL(None, use_errno=True)


def flush_file(fd: int) -> None:
    """Return when the bytes and the size of the open file are on the medium."""
    os.fsync(fd)


def hand_over(fd: int) -> None:
    """Return when the bytes and the size of the open file are on the medium: there is no cheaper way."""
    os.fsync(fd)


def flush_folder(path: str | os.PathLike[str]) -> None:
    """Return when the names in a folder are on the medium."""
    fd = os.open(path, os.O_RDONLY | os.O_DIRECTORY)
    try:
        os.fsync(fd)
    finally:
        os.close(fd)


def flush_filesystem(fd: int) -> bool:
    """Flush the whole filesystem that `fd` lies on; False if that is not available.

    One call for a batch of small files costs about what one flush of a single
    file does. Since Linux 5.8 it also reports write errors.
    """
    try:
        call = _libc().syncfs
    except AttributeError:
        return False
    if call(fd) != 0:
        import ctypes

        code = ctypes.get_errno()
        raise OSError(code, os.strerror(code))
    return True


def forget(fd: int, offset: int = 0, length: int = 0) -> None:
    """Drop what memory holds of a flushed file, so that the next read asks the medium."""
    os.posix_fadvise(fd, offset, length, os.POSIX_FADV_DONTNEED)


def expect(fd: int, length: int = 0) -> None:
    """Start reading a file, or so many bytes of it, into memory without waiting for it."""
    os.posix_fadvise(fd, 0, length, os.POSIX_FADV_WILLNEED)


def bypass(fd: int, on: bool) -> bool:
    """Switch the page cache off (or on) for one open file; say whether that worked."""
    flags = fcntl.fcntl(fd, fcntl.F_GETFL)
    wanted = flags | os.O_DIRECT if on else flags & ~os.O_DIRECT
    try:
        fcntl.fcntl(fd, fcntl.F_SETFL, wanted)
    except OSError:  # this filesystem has no way around the cache
        return False
    return True


def rotates(path: str | os.PathLike[str]) -> bool:
    """Whether the device under `path` is a spinning disk, on which parallel reads cost seeks."""
    device = Path(path).stat().st_dev
    block = Path(f"/sys/dev/block/{os.major(device)}:{os.minor(device)}")
    for folder in (block, block / ".."):  # a partition's queue lies with its disk
        try:
            return (folder / "queue" / "rotational").read_text().strip() == "1"
        except OSError:
            continue
    return False
