"""Locks that another process holds on an SQLite database: an open transaction, or an open connection with a log.

SQLite locks bytes from 1 GiB on in the database (``os.h``, PENDING_BYTE), and with a
write-ahead log bytes 120 to 128 of the index beside it (``wal.c``, WAL_WRITE_LOCK and the
dead man's switch). Asking for them changes nothing and needs no permission to write.
"""

from __future__ import annotations

import os
import sys
from pathlib import Path

from dunechest.transfer import safe

if sys.platform == "win32":
    from dunechest.machine._locks_windows import holder
else:
    from dunechest.machine._locks_posix import holder

_PENDING = 0x40000000
_SHARED_LAST = _PENDING + 512
_INDEX_FIRST, _INDEX_LAST = 120, 129


def database_holder(database: Path) -> int | None:
    """Return the number of a process that has a database locked; -1 if it cannot be told, None if nobody has."""
    for path, first, last in (
        (str(database), _PENDING, _SHARED_LAST),
        (f"{database}-shm", _INDEX_FIRST, _INDEX_LAST),
    ):
        try:
            fd = safe.open_regular(path)
        except OSError:
            continue
        try:
            pid = holder(fd, first, last - first)
        finally:
            os.close(fd)
        if pid is not None and pid != os.getpid():
            return pid
    return None
