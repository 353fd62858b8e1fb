"""Remove and rename as POSIX has it, on Windows too.

Windows refuses to remove a file that is marked read-only, or to put another one in its place; POSIX looks at the folder
alone. And it refuses both while any program has the file open, if only for the moment in which a scanner looks at what
was just written. So there the mark is taken away, and what is refused is tried again for a short while.
"""

from __future__ import annotations

import os
import stat
import sys
import time
from collections.abc import Callable

from dunechest.paths import leads_elsewhere

AnyPath = str | bytes | os.PathLike[str]

#: Whether this system is such a one.
REFUSES = sys.platform == "win32"
#: Seconds for which it is tried again, and between two tries.
PATIENCE, PAUSE = 2.0, 0.05
# ERROR_ACCESS_DENIED, ERROR_SHARING_VIOLATION, ERROR_LOCK_VIOLATION, ERROR_DIR_NOT_EMPTY (one is removed, but not yet gone)
_PASSING = (5, 32, 33, 145)


def unlink(path: AnyPath, *, missing_ok: bool = False) -> None:
    """Remove a file, read-only or not."""
    try:
        _again(lambda: _unlink(path), path)
    except FileNotFoundError:
        if not missing_ok:
            raise


def _unlink(path: AnyPath) -> None:
    if REFUSES and leads_elsewhere(info := os.lstat(path)) and stat.S_ISDIR(info.st_mode):
        os.rmdir(path)  # a junction is removed as a folder is, and keeps what it leads to
    else:
        os.unlink(path)


def replace(old: AnyPath, new: AnyPath) -> None:
    """Rename a file or folder; a file in the new place is replaced, read-only or not."""
    _again(lambda: os.replace(old, new), new)


def rename(old: AnyPath, new: AnyPath) -> None:
    """Rename a file or folder, as the system does it."""
    _again(lambda: os.rename(old, new))


def rmdir(path: AnyPath) -> None:
    """Remove an empty folder, read-only or not."""
    _again(lambda: os.rmdir(path), path)


def _again(call: Callable[[], None], marked: AnyPath | None = None) -> None:
    """Do it; where the system refuses, without the mark of what is in the way, and for a while again."""
    if not REFUSES:
        call()
        return
    until = time.monotonic() + PATIENCE
    cleared = marked is None
    while True:
        try:
            call()
            return
        except OSError as error:
            if getattr(error, "winerror", None) not in _PASSING or isinstance(error, FileNotFoundError):
                raise
            if not cleared and marked is not None:
                cleared = True
                if _clear(marked):
                    continue
            if time.monotonic() > until:
                raise
            time.sleep(PAUSE)


def _clear(path: AnyPath) -> bool:
    """Take away the mark of a file or folder that it is read-only; False if it has none. A link is left alone."""
    try:
        info = os.lstat(path)
        if info.st_mode & stat.S_IWRITE or stat.S_ISLNK(info.st_mode):
            return False
        os.chmod(path, info.st_mode | stat.S_IWRITE)
    except OSError:
        return False
    return True
