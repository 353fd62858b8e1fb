"""Windows: a drive letter stands for its device; whether it can be unplugged is what the system lists."""

from __future__ import annotations

import os
from pathlib import Path

from dunechest.machine.mounts import mounts


def devices(path: Path) -> frozenset[str]:
    """Return the letter of the drive that a folder lies on, or the name of its share."""
    drive = os.path.splitdrive(os.path.realpath(path))[0]
    return frozenset({drive.removeprefix("\\\\?\\").upper()} if drive else ())


def disks(path: Path) -> frozenset[str]:
    """Return nothing: which letters lie on one disk is not asked for here."""
    return frozenset()


def removable(names: frozenset[str]) -> bool:
    """Whether one of the drives is listed as removable."""
    return any(
        "removable" in part.opts.split(",") and part.mountpoint[:2].upper() in names
        for part in mounts(drives_only=True)
    )


def uuid_of(path: Path) -> str:
    """Return the number of the volume that a folder lies on, as the system tells it; empty if it does not."""
    try:
        return f"{os.stat(path).st_dev:x}" if os.name == "nt" else ""
    except OSError:
        return ""
