"""Linux: a placeholder has a size and not one block."""

from __future__ import annotations

import os
import sys

#: Bytes. Filesystems keep files up to about this size inside the inode (or the file table's
#: record), where they take no block and are whole all the same.
_INSIDE = 4096


#: Bytes: of a file that is not larger nothing need be asked.
LEAST = _INSIDE


def is_placeholder(info: os.stat_result) -> bool:
    """Whether a regular file's bytes are not here, by what `os.stat` says of it."""
    return sys.platform != "win32" and info.st_blocks == 0 and info.st_size > _INSIDE
