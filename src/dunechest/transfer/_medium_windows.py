"""Windows: flushes reach the medium; the cache of one file cannot be dropped from here.

What is read back may therefore come from memory. The documentation says so.
"""

from __future__ import annotations

import os


def flush_file(fd: int) -> None:
    """Return when the bytes and the size of the open file are on the medium."""
    os.fsync(fd)


def hand_over(fd: int) -> None:
    """Return when the bytes and the size of the open file are on the medium: there is no cheaper way."""
    os.fsync(fd)


def flush_folder(path: str | os.PathLike[str]) -> None:
    """Do nothing: the system journals the names in folders itself and cannot be asked to."""


def flush_filesystem(fd: int) -> bool:
    """Say that there is no call for one whole filesystem: files are flushed one by one."""
    return False


def forget(fd: int, offset: int = 0, length: int = 0) -> None:
    """Do nothing: there is no such call."""


def expect(fd: int, length: int = 0) -> None:
    """Do nothing: reading ahead is left to the system."""


def bypass(fd: int, on: bool) -> bool:
    """Say that it is not available for a file that is already open."""
    return False


def rotates(path: str | os.PathLike[str]) -> bool:
    """Say no: the system does not tell without a helper."""
    return False
