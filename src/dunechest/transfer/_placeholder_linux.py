"""Linux: a placeholder has a size and not one block, and a mark that its bytes are elsewhere.

A file without blocks alone is none: it is one hole from end to end, as a new disk image is. What marks a placeholder is an
attribute that the filesystem or a file server keeps for it (FILE_ATTRIBUTE_OFFLINE and its likes, of the Windows file
attribute constants); or that a program serves the filesystem, which then fetches what is read.
"""

from __future__ import annotations

import os
import struct
import sys
from pathlib import Path

#: Bytes. Filesystems keep files up to about this size inside the inode (or the file table's
#: record), where they take no block and are whole all the same.
_INSIDE = 4096

#: Bytes: of a file that is not larger nothing need be asked.
LEAST = _INSIDE

#: FILE_ATTRIBUTE_OFFLINE, FILE_ATTRIBUTE_RECALL_ON_OPEN, FILE_ATTRIBUTE_RECALL_ON_DATA_ACCESS.
_ELSEWHERE = 0x1000 | 0x40000 | 0x400000
#: Attributes that hold those: as four bytes, little-endian, or as text.
_AS_NUMBER = ("system.ntfs_attrib", "user.cifs.dosattrib")
AS_TEXT = "user.DOSATTRIB"
#: Filesystems of real drives that a process serves.
_LOCAL = frozenset({"fuseblk", "fuse.exfat", "fuse.exfat-fuse", "fuse.ntfs", "fuse.ntfs-3g", "fuse.ext2"})
#: Whether a program serves the filesystem of a device number.
_served: dict[int, bool] = {}


def is_placeholder(path: str, info: os.stat_result) -> bool:
    """Whether a regular file's bytes are not here, by what the system says of it; it is not opened."""
    if sys.platform != "linux" or info.st_blocks or info.st_size <= _INSIDE:
        return False
    return _is_marked(path) or _is_served(info.st_dev)


def _is_marked(path: str) -> bool:
    if sys.platform != "linux":
        return False
    for name in (*_AS_NUMBER, AS_TEXT):
        try:
            value = os.getxattr(path, name)
        except OSError:
            continue
        if name == AS_TEXT:
            text = value.split(b"\0")[0].decode("ascii", "replace")
            try:
                number = int(text, 16)
            except ValueError:
                continue
        elif len(value) == 4:
            (number,) = struct.unpack("<I", value)
        else:
            continue
        if number & _ELSEWHERE:
            return True
    return False


def _is_served(device: int) -> bool:
    """Whether a program serves a filesystem, by the kernel's list of what is mounted (proc_pid_mountinfo(5))."""
    if sys.platform == "win32":
        return False
    if device not in _served:
        number = f"{os.major(device)}:{os.minor(device)}"
        _served[device] = False
        try:
            text = Path("/proc/self/mountinfo").read_text(encoding="utf-8", errors="replace")
        except OSError:
            return False
        lines = [line.split() for line in text.splitlines()]
        for words in lines:
            if "-" in words and words[2] == number:
                kind = words[words.index("-") + 1]
                _served[device] = kind == "fuse" or (kind.startswith("fuse.") and kind not in _LOCAL)
    return _served[device]
