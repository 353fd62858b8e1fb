"""What is mounted where."""

from __future__ import annotations

import os
import re
import sys
from pathlib import Path
from typing import NamedTuple


class Mount(NamedTuple):
    """A mounted filesystem: its device, where it is mounted, its type and its options, as the system tells them."""

    device: str
    mountpoint: str
    fstype: str
    opts: str = ""


def mounts(*, drives_only: bool = False) -> list[Mount]:
    """Return what is mounted, in the order in which it was; on request only what lies on a device.

    Raises
    ------
    OSError
        If the system does not tell.
    """
    if sys.platform == "linux":
        return _linux(drives_only)
    import psutil

    return [
        Mount(part.device, part.mountpoint, part.fstype, part.opts)
        for part in psutil.disk_partitions(all=not drives_only)
    ]


def _linux(drives_only: bool) -> list[Mount]:
    """Read the kernel's own list (proc(5)): half of all commands need it, and loading psutil takes longer than most of them."""
    lines = [os.fsdecode(line).split(" ") for line in Path("/proc/self/mounts").read_bytes().splitlines()]
    found = [Mount(*map(_plain, words[:4])) for words in lines if len(words) >= 4]
    if not drives_only:
        return found
    types = Path("/proc/filesystems").read_text(encoding="ascii", errors="replace").splitlines()
    of_devices = {line.strip() for line in types if not line.startswith("nodev")} | {"zfs"}
    return [mount for mount in found if mount.fstype in of_devices and mount.device not in ("", "none")]


def _plain(text: str) -> str:
    """Undo what the kernel writes for spaces, tabs, line ends and backslashes in names."""
    return re.sub(r"\\([0-7]{3})", lambda match: chr(int(match[1], 8)), text) if "\\" in text else text
