"""Linux: the physical devices under a folder, as the kernel's own tree of block devices shows them."""

from __future__ import annotations

import os
import sys
from pathlib import Path

from dunechest.machine.mounts import mounts

assert sys.platform == "linux"


def devices(path: Path) -> frozenset[str]:
    """Return the names of the physical devices that a folder lies on; empty where there are none to see."""
    return _under(_number(path), set())


def disks(path: Path) -> frozenset[str]:
    """Return the names of the disks that a folder lies on, as they are plugged in; an image in a file is a disk of its own."""
    return _under(_number(path), set(), images=False)


def uuid_of(path: Path) -> str:
    """Return the UUID of the filesystem that a folder lies on, as the system's device manager lists it; empty if it does not."""
    real = path.resolve()
    best, depth = "", -1
    for part in mounts():
        mount = Path(part.mountpoint)
        if len(mount.parts) >= depth and real.is_relative_to(mount):
            best, depth = part.device, len(mount.parts)
    try:
        with os.scandir("/dev/disk/by-uuid") as entries:
            names = {os.path.realpath(entry.path): entry.name for entry in entries}
    except OSError:
        return ""
    return names.get(os.path.realpath(best), "") if best.startswith("/dev/") else ""


def _number(path: Path) -> int:
    number = path.stat().st_dev
    if Path(_sys(number)).exists():
        return number
    # A filesystem in a process, or one with device numbers of its own: what was mounted says it.
    real = path.resolve()
    best, depth = "", -1
    for part in mounts():
        mount = Path(part.mountpoint)
        if len(mount.parts) >= depth and real.is_relative_to(mount):
            best, depth = part.device, len(mount.parts)
    try:
        return os.stat(best).st_rdev if best.startswith("/dev/") else 0
    except OSError:
        return 0


def _sys(number: int) -> str:
    return f"/sys/dev/block/{os.major(number)}:{os.minor(number)}"


def _under(number: int, seen: set[int], *, images: bool = True) -> frozenset[str]:
    block = Path(_sys(number))
    if number in seen or not number or not block.exists():
        return frozenset()
    seen.add(number)
    block = block.resolve()
    if (block / "partition").exists():
        block = block.parent
    if images:
        try:
            image = (block / "loop" / "backing_file").read_text().strip()
            return _under(_number(Path(image)), seen)
        except OSError:
            pass
    slaves = list((block / "slaves").glob("*")) if (block / "slaves").is_dir() else []
    if slaves:
        found: set[str] = set()
        for slave in slaves:
            try:
                major, minor = (slave / "dev").read_text().strip().split(":")
            except (OSError, ValueError):
                continue
            found |= _under(os.makedev(int(major), int(minor)), seen, images=images)
        return frozenset(found)
    return frozenset({block.name})


def removable(names: frozenset[str]) -> bool:
    """Whether one of the devices can be unplugged: the kernel calls it removable, or it is on USB."""
    for name in names:
        block = Path("/sys/block") / name
        try:
            if (block / "removable").read_text().strip() == "1" or "/usb" in str(block.resolve()):
                return True
        except OSError:
            continue
    return False
