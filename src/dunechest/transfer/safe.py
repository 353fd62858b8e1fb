"""Safe writing: beside, flushed, renamed. Every small file this library writes goes through here."""

from __future__ import annotations

import errno
import os
import stat
from pathlib import Path

from dunechest.transfer import disk

#: What a file is called until it is whole. Nothing reads such a name.
BESIDE = ".being-written"

_NOFOLLOW = getattr(os, "O_NOFOLLOW", 0) | getattr(os, "O_CLOEXEC", 0) | getattr(os, "O_BINARY", 0)


def write_file(path: Path, content: bytes, *, mode: int = 0o644) -> None:
    """Write a small file so that its name holds either the old content or the new, never a part.

    Parameters
    ----------
    path : Path
        The file; an earlier one is replaced at the last moment.
    content : bytes
        All of it.
    mode : int
        Permission bits of the new file.

    Raises
    ------
    OSError
        If the system refuses; the file is then as it was.
    """
    beside = path.with_name(path.name + BESIDE)
    disk.remove(beside, missing_ok=True)
    fd = disk.create(beside, os.O_WRONLY | os.O_CREAT | os.O_EXCL | _NOFOLLOW, mode)
    try:
        try:
            write_all(fd, content)
            disk.flush_file(fd)
        finally:
            os.close(fd)
        disk.rename(beside, path)
    except BaseException:
        disk.remove(beside, missing_ok=True)
        raise
    disk.flush_folder(path.parent)


def write_all(fd: int, content: bytes | memoryview) -> None:
    """Write every byte, however many calls the system needs for it."""
    rest = memoryview(content)
    while rest:
        rest = rest[disk.write(fd, rest) :]


def read_bounded(path: Path, most: int) -> bytes:
    """Read a record file that must be small, without following a link and without trusting its size.

    Parameters
    ----------
    path : Path
        The file.
    most : int
        Bytes; a larger file is refused.

    Raises
    ------
    OSError
        If it cannot be read, or is a link, a folder or a device.
    ValueError
        If it is larger than `most`.
    """
    try:
        return _read_bounded(path, most)
    except OSError as error:
        if error.errno != errno.EIO:
            raise
        return _read_bounded(path, most)  # a drive that stumbles once: what is read next proves itself by its digest


def _read_bounded(path: Path, most: int) -> bytes:
    fd = open_regular(path)
    try:
        # One call for nearly every file; the loop for one that grows, or whose size is not the truth.
        content = os.read(fd, min(os.fstat(fd).st_size, most) + 1)
        while content and len(content) <= most and (more := os.read(fd, 1 << 16)):
            content += more
    finally:
        os.close(fd)
    if len(content) > most:
        raise ValueError(f"it is larger than {most:,} bytes")
    return content


def open_regular(path: str | bytes | os.PathLike[str]) -> int:
    """Open a regular file for reading; a link, pipe or device in its place is an `OSError`.

    Without blocking, because opening a pipe for reading would wait for a writer.
    """
    # Asked first, too: merely opening some devices does something.
    if not stat.S_ISREG(os.lstat(path).st_mode):
        raise OSError(errno.EINVAL, "not a regular file", os.fsdecode(path))
    fd = os.open(path, os.O_RDONLY | _NOFOLLOW | getattr(os, "O_NONBLOCK", 0))
    if not stat.S_ISREG(os.fstat(fd).st_mode):
        os.close(fd)
        raise OSError(errno.EINVAL, "not a regular file", os.fsdecode(path))
    return fd
