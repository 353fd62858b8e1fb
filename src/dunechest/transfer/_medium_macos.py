"""macOS: a flush that reaches the medium needs its own call; the cache is switched off a file at a time."""

from __future__ import annotations

import fcntl
import os
import sys

assert sys.platform != "win32"

# <sys/fcntl.h> of macOS; named here because other systems' Python does not have them.
_F_NOCACHE = 48
_F_FULLFSYNC = 51


def flush_file(fd: int) -> None:
    """Return when the bytes and the size of the open file are on the medium."""
    try:
        fcntl.fcntl(fd, _F_FULLFSYNC)
    except OSError:  # network and some foreign filesystems know only the ordinary flush
        os.fsync(fd)


def hand_over(fd: int) -> None:
    """Give the bytes of the open file to the drive, which may keep them in a memory of its own until the next full flush."""
    os.fsync(fd)


def flush_folder(path: str | os.PathLike[str]) -> None:
    """Return when the names in a folder are on the medium."""
    fd = os.open(path, os.O_RDONLY)
    try:
        os.fsync(fd)
    finally:
        os.close(fd)


def flush_filesystem(fd: int) -> bool:
    """Say that there is no call for one whole filesystem: files are flushed one by one."""
    return False


def forget(fd: int, offset: int = 0, length: int = 0) -> None:
    """Let the reads that follow go around the cache."""
    fcntl.fcntl(fd, _F_NOCACHE, 1)


def expect(fd: int, length: int = 0) -> None:
    """Do nothing: reading ahead is left to the system."""


def bypass(fd: int, on: bool) -> bool:
    """Switch the cache off (or on) for one open file."""
    fcntl.fcntl(fd, _F_NOCACHE, int(on))
    return False  # unlike on Linux, it needs no aligned buffers


def rotates(path: str | os.PathLike[str]) -> bool:
    """Say no: the system does not tell without a helper."""
    return False
