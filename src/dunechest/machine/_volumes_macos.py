"""macOS: a volume lies in a part of a disk; volumes of one container share its room and its fate."""

from __future__ import annotations

import functools
import os
import plistlib
from pathlib import Path
from xml.parsers.expat import ExpatError

from dunechest.errors import RefusedError
from dunechest.machine.mounts import mounts
from dunechest.machine.system_command import order
from dunechest.regex import late

#: ``/dev/disk3s1s1``: a snapshot of the first volume on the third disk or container.
_DEVICE = late(r"/dev/(disk\d+)(?:s\d+)*\Z")


def devices(path: Path) -> frozenset[str]:
    """Return the name of the disk or container that a folder lies on; of the volume alone where no disk is to be seen."""
    wanted = os.stat(path).st_dev
    for part in mounts():
        found = _DEVICE.match(part.device)
        try:
            if found is not None and os.stat(part.mountpoint).st_dev == wanted:
                return frozenset({found.group(1)})
        except OSError:
            continue
    return frozenset({f"volume {wanted:x}"})


def disks(path: Path) -> frozenset[str]:
    """Return the name of the disk that a folder lies on, as it is plugged in; empty where there is none to see."""
    return frozenset(name for name in devices(path) if name.startswith("disk"))


def removable(names: frozenset[str]) -> bool:
    """Whether one of the disks holds a volume among those that are plugged in (``/Volumes``), and none of the system's own."""
    places = [
        part.mountpoint
        for part in mounts()
        if (found := _DEVICE.match(part.device)) is not None and found.group(1) in names
    ]
    return bool(places) and all(place.startswith("/Volumes/") for place in places)


def uuid_of(path: Path) -> str:
    """Return the UUID of the volume that a folder lies on, as the system's own command lists it; empty if it does not.

    The number that the system gives a mounted filesystem is another one each time the drive is plugged in.
    """
    return _uuid(os.stat(path).st_dev, os.fspath(path))


@functools.lru_cache(maxsize=64)
def _uuid(device: int, path: str) -> str:
    mount = path
    while os.path.dirname(mount) != mount and os.stat(os.path.dirname(mount)).st_dev == device:
        mount = os.path.dirname(mount)
    try:
        told = order(["diskutil", "info", "-plist", mount], check=False)
        found = plistlib.loads(told.stdout.encode()).get("VolumeUUID", "") if told.returncode == 0 else ""
    except (RefusedError, ValueError, AttributeError, plistlib.InvalidFileException, ExpatError):
        return ""
    return found if isinstance(found, str) and found.isprintable() else ""
