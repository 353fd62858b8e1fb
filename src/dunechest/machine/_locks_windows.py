"""Windows: try a lock on the bytes and give it back at once; who holds another one is not told."""

from __future__ import annotations

import os
from typing import Any


def holder(fd: int, start: int, length: int) -> int | None:
    """Return -1 if some process holds a lock on these bytes, or None."""
    import msvcrt

    system: Any = msvcrt
    os.lseek(fd, start, os.SEEK_SET)
    try:
        system.locking(fd, system.LK_NBLCK, length)
    except OSError:
        return -1
    os.lseek(fd, start, os.SEEK_SET)
    system.locking(fd, system.LK_UNLCK, length)
    return None
