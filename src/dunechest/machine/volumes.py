"""What a drive is: its physical devices, whether it can be unplugged, and whether it is a drive at all."""

from __future__ import annotations

import os
import re
import sys
from pathlib import Path

from dunechest.regex import late
from dunechest.transfer import elsewhere

if sys.platform == "linux":
    from dunechest.machine import _volumes_linux as _here
    from dunechest.machine._volumes_linux import disks, removable, uuid_of
elif sys.platform == "win32":
    from dunechest.machine import _volumes_windows as _here
    from dunechest.machine._volumes_windows import disks, removable, uuid_of
else:
    from dunechest.machine import _volumes_macos as _here
    from dunechest.machine._volumes_macos import disks, removable, uuid_of

__all__ = [
    "devices",
    "disks",
    "identity",
    "is_network",
    "is_same_place",
    "mark_of",
    "removable",
    "sync_mark",
    "uuid_of",
]

_NETWORK = frozenset(
    {"nfs", "nfs4", "cifs", "smb", "smb3", "smbfs", "9p", "afs", "afpfs", "davfs", "webdav", "ncpfs"}
)
#: Filesystems of real drives that a process serves.
_LOCAL_FUSE = frozenset({"fuse.exfat", "fuse.ntfs", "fuse.ntfs-3g", "fuse.ext2"})

#: Hexadecimal digits of the number of a device; that of a filesystem has more.
_DEVICE_DIGITS = 8

_MARK = late(r"\.[\w.-]*(?:sync|cloud)[\w.-]*", re.IGNORECASE)
# Windows: IO_REPARSE_TAG_CLOUD and its fifteen variants; attributes PINNED and UNPINNED.
_CLOUD_TAG, _CLOUD_MASK = 0x9000001A, 0xFFFF0FFF
_PINNED = 0x80000 | 0x100000
# macOS: where file providers keep what they sync; SF_DATALESS.
_PROVIDED = ("Library/CloudStorage", "Library/Mobile Documents")
_DATALESS = 0x40000000


def devices(path: Path) -> frozenset[str]:
    """Return the names of the physical devices that a folder lies on; none if it stands in for a place on a server."""
    return frozenset() if elsewhere.place_of(path) is not None else _here.devices(path)


def is_network(kind: str) -> bool:
    """Whether a type of filesystem lies on another computer, or is served by a program.

    >>> is_network("nfs4"), is_network("fuse.something"), is_network("ext4"), is_network("fuseblk")
    (True, True, False, False)
    """
    return kind in _NETWORK or (kind.startswith("fuse.") and kind not in _LOCAL_FUSE)


def own_number(real: Path) -> str:
    """Return the number or UUID that a filesystem keeps wherever it is mounted; empty if the system gives none.

    Raises
    ------
    OSError
        If the folder cannot be asked about.
    """
    if sys.platform == "linux":
        number = os.statvfs(real).f_fsid
        return f"{number:x}" if number else ""
    return uuid_of(real)


def lasting_number(real: Path) -> str:
    """Return what a filesystem is told by wherever it is plugged in; empty if the system gives nothing.

    Of some filesystems Linux gives only the number of the device that the drive got, which another drive has tomorrow: then
    the UUID is what counts, if the system lists it.

    Raises
    ------
    OSError
        If the folder cannot be asked about.
    """
    number = own_number(real)
    if sys.platform == "linux" and len(number) <= _DEVICE_DIGITS:
        uuid = uuid_of(real)
        return f"uuid-{uuid}" if uuid else number
    return number


def mark_of(folder: str) -> str:
    """Return what tells the filesystem that is mounted in a folder from others, however it is plugged in; empty if nothing."""
    try:
        real = Path(folder).resolve(strict=True)
        return uuid_of(real) or own_number(real)
    except OSError:
        return ""


def identity(folder: Path) -> str:
    """Return what tells this folder on this filesystem from a copy of it elsewhere, wherever the drive is mounted.

    It is the filesystem's own identifier and the folder's place below the mount point; empty where a system gives none.
    """
    place = elsewhere.place_of(folder)
    if place is not None:
        return place.identity
    try:
        real = folder.resolve(strict=True)
        number = lasting_number(real)
        top = real
        while top.parent != top and top.parent.stat().st_dev == top.stat().st_dev:
            top = top.parent
    except OSError:
        return ""
    if not number:
        return ""
    return f"{number}:{real.relative_to(top).as_posix()}"[:300]


def is_same_place(there: str, here: str) -> bool:
    """Whether what was noted of a chest in one place counts for the one in another: not if that is a copy of it.

    Parameters
    ----------
    there, here : str
        What `identity` says of the two; where a system gives nothing, nothing speaks against it.
    """
    return not there or not here or there == here


def sync_mark(folder: Path, top: Path, home: Path) -> str:
    """Say by what a folder shows that some service keeps it in step with another place; empty if by nothing.

    Parameters
    ----------
    folder : Path
        The folder; the ones above it are looked at too.
    top, home : Path
        The mount point and the home folder, where the looking stops.
    """
    real = Path(os.path.realpath(folder))
    for place in (real, *real.parents):
        if place in (home, top, Path(place.anchor)) and place != real:
            break
        for part in _PROVIDED:
            if place == home / part or home / part in place.parents:
                return f"it is in {part}"
        mark = _system_mark(place) or _own_mark(place)
        if mark:
            return f"{place} {mark}"
    return ""


def _system_mark(place: Path) -> str:
    """Look at what the system itself notes of a folder."""
    try:
        info = place.lstat()
    except OSError:
        return ""
    if getattr(info, "st_reparse_tag", 0) & _CLOUD_MASK == _CLOUD_TAG or (
        getattr(info, "st_file_attributes", 0) & _PINNED
    ):
        return "is marked by the system as kept in step"
    if getattr(info, "st_flags", 0) & _DATALESS:
        return "is marked by the system as kept elsewhere"
    return ""


def _own_mark(place: Path) -> str:
    """Look at what a service leaves in its folder: hidden names and attributes that speak of it."""
    try:
        names = [entry.name for entry in os.scandir(place) if entry.name.startswith(".")]
    except OSError:
        return ""
    for name in sorted(names):
        if _MARK.fullmatch(name):
            return f"holds {name}"
    if hasattr(os, "listxattr"):
        try:
            found = [name for name in os.listxattr(place) if re.search("sync|cloud", name, re.IGNORECASE)]
        except OSError:
            return ""
        if found:
            return f"has the attribute {found[0]}"
    return ""
