"""Linux and macOS: ask who holds a lock on bytes of a file, without taking one (``fcntl`` F_GETLK)."""

from __future__ import annotations

import fcntl
import os
import struct
import sys

assert sys.platform != "win32"

# struct flock, as each system lays it out.
_LAYOUT = "qqihh" if sys.platform == "darwin" else "hhqqi"


def holder(fd: int, start: int, length: int) -> int | None:
    """Return the number of a process that holds a lock on these bytes, or None.

    -1 stands for a process that the system does not name.
    """
    kind, whence = fcntl.F_WRLCK, os.SEEK_SET
    asked = (start, length, 0, kind, whence) if sys.platform == "darwin" else (kind, whence, start, length, 0)
    try:
        answer = struct.unpack(_LAYOUT, fcntl.fcntl(fd, fcntl.F_GETLK, struct.pack(_LAYOUT, *asked)))
    except OSError:  # this filesystem knows no locks
        return None
    found, pid = (answer[3], answer[2]) if sys.platform == "darwin" else (answer[0], answer[4])
    if found == fcntl.F_UNLCK:
        return None
    return int(pid) or -1
