"""Drives: which filesystem a folder lies on, its room, and what names it can hold."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable
from pathlib import Path

import msgspec
from msgspec.structs import replace

from dunechest.machine.identity import system_name
from dunechest.machine.mounts import mounts
from dunechest.machine.volumes import lasting_number, uuid_of
from dunechest.paths import BACKSLASHES
from dunechest.transfer import elsewhere

#: What Windows refuses in a name; exFAT and NTFS drives are read there.
_WINDOWS_FORBIDS = frozenset('"*:<>?\\|') | frozenset(map(chr, range(32))) | {"\x7f"}

# Filesystems that hold any name of bytes, tell cases apart, and flush as a whole when asked.
_UNIX = frozenset(
    {"ext2", "ext3", "ext4", "xfs", "btrfs", "f2fs", "tmpfs", "zfs", "jfs", "reiserfs", "overlay", "bcachefs"}
)
_FLUSHED_WHOLE = _UNIX | {"exfat", "vfat", "ntfs3"}
_APPLE = frozenset({"apfs", "hfs", "hfsplus"})
#: Bytes; of a server that does not say how much room there is.
ENDLESS = 1 << 60
_OLD_FAT = frozenset({"vfat", "msdos", "fat", "fat32"})


class Limits(msgspec.Struct, frozen=True):
    """What a filesystem's names can be.

    Parameters
    ----------
    forbidden : frozenset of str
        Characters no name may hold.
    longest : int
        Longest name.
    unit : {"bytes", "utf-16"}
        What `longest` counts.
    tells_case : bool
        Whether ``a`` and ``A`` are two names.
    tells_accents : bool
        Whether the two Unicode forms of an accented letter are two names.
    windows : bool
        Whether trailing dots, trailing spaces and device names are to be avoided.
    largest : int or None
        Largest file in bytes, where there is such a limit.
    """

    forbidden: frozenset[str] = frozenset()
    longest: int = 255
    unit: str = "bytes"
    tells_case: bool = True
    tells_accents: bool = True
    windows: bool = False
    largest: int | None = None


class Filesystem(msgspec.Struct, frozen=True):
    """The filesystem of a folder.

    `free` and `total` in bytes, `free` being what this person may use; `block`
    the bytes it hands out at once; `free_names` how many files can still be made,
    or None where that is not limited; `whole_sync` whether it can be flushed in
    one call.
    """

    type: str
    mount: Path
    free: int
    total: int
    block: int
    free_names: int | None
    whole_sync: bool
    limits: Limits


#: What a name can be on any server: it may keep files on any system, and an address has no place for some characters.
_ON_A_SERVER = Limits(_WINDOWS_FORBIDS | {";"}, 200, "bytes", tells_case=False, tells_accents=False, windows=True)

#: Whoever simulates other drives sets a function here: it gets each filesystem as it is, and returns what is believed.
pretend: Callable[[Filesystem], Filesystem] | None = None


def filesystem(path: Path) -> Filesystem:
    """Describe the filesystem under `path`, which must exist.

    Raises
    ------
    OSError
        If the path or its filesystem cannot be asked.
    """
    real = path.resolve(strict=True)
    place = elsewhere.place_of(real)
    if place is not None:
        free_there = place.free()
        room = free_there if free_there is not None else ENDLESS
        return Filesystem(place.kind, real, room, room, 1, None, False, _ON_A_SERVER)
    kind, mount = _mounted(real)
    free_names: int | None = None
    if hasattr(os, "statvfs"):
        facts = os.statvfs(real)
        fragment = facts.f_frsize or facts.f_bsize
        free, total = facts.f_bavail * fragment, facts.f_blocks * fragment
        # Not f_bsize, which on macOS is how much is best read at once, and no unit of room.
        block = fragment
        # Filesystems that make inodes as they need them report none, or absurdly many.
        if kind in _UNIX and 0 < facts.f_files < 1 << 60:
            free_names = facts.f_favail
    else:
        import shutil

        usage = shutil.disk_usage(real)
        free, total, block = usage.free, usage.total, 4096
    found = Filesystem(kind, mount, free, total, block, free_names, kind in _FLUSHED_WHOLE, limits_of(kind))
    return pretend(found) if pretend is not None else found


def with_limits(place: Filesystem, limits: Limits) -> Filesystem:
    """Return the description of a filesystem with other limits."""
    return replace(place, limits=limits)


def _mounted(real: Path) -> tuple[str, Path]:
    """Find the mount point a path lies under; the last mounted of several on one point wins."""
    best = ("unknown", Path(real.anchor))
    depth = 0
    for part in mounts():
        mount = Path(part.mountpoint)
        if len(mount.parts) >= depth and real.is_relative_to(mount):
            best, depth = (part.fstype.lower() or "unknown", mount), len(mount.parts)
    return best


def limits_of(kind: str, system: str = "") -> Limits:
    """Return the limits of a type of filesystem; an unknown one is taken to be the strictest.

    Windows has its own, whatever the drive could hold: `system` says whose, this computer's by default.
    """
    if (system or system_name()) == "windows":
        kind = kind if kind in _OLD_FAT else "ntfs"
    if kind in _UNIX:
        return Limits()
    if kind in _APPLE:
        return Limits(forbidden=frozenset(":"), unit="utf-16", tells_case=False, tells_accents=False)
    return Limits(
        forbidden=_WINDOWS_FORBIDS,
        unit="utf-16",
        tells_case=False,
        tells_accents=True,
        windows=True,
        largest=(4 << 30) - 1 if kind in _OLD_FAT else None,
    )


#: Filesystems in which what was never written of a file takes no room.
_WITH_HOLES = _UNIX | {"apfs", "ntfs3", "ufs"}


def holds_holes(kind: str) -> bool:
    """Whether a type of filesystem holds files with holes."""
    return kind in _WITH_HOLES


def holds_modes(path: Path) -> bool:
    """Whether permission bits under a path are a person's own, and not ones that a mount gives to every file."""
    if os.name == "nt":
        return False
    kind, _ = _mounted(path.resolve())
    return kind in _UNIX | _APPLE or not limits_of(kind).windows


def search_roots() -> tuple[tuple[Path, ...], frozenset[str]]:
    """Return the mount points to search for libraries, and the folders to go around while doing so.

    Each drive is searched from its own mount point, so none is entered from another
    one; what is no drive (the system's inner mounts, networks) is not searched.
    """
    inner = {str(Path(part.mountpoint)) for part in mounts()}
    if sys.platform == "darwin":
        # The system shows its data volume in its own place too, and all other volumes beside it.
        inner.add("/System/Volumes")
    roots = drive_folders()
    if not BACKSLASHES and Path("/") not in roots and DRIVES not in os.environ:
        roots = (Path("/"), *roots)
    return roots, frozenset(inner | {"/tmp"})


#: Names the only folders in which drives, chests and libraries are looked for, as ``PATH`` names folders.
DRIVES = "DUNECHEST_DRIVES"


def drive_identity(folder: Path) -> str:
    """Return what tells the drive of a folder from other drives, wherever it is mounted; empty if a system gives nothing.

    A folder that ``DUNECHEST_DRIVES`` names is a drive of its own: whoever names it says so. So is a server.
    """
    place = elsewhere.place_of(folder)
    if place is not None:
        return place.drive
    try:
        real = folder.resolve(strict=True)
        number = lasting_number(real)
    except OSError:
        return ""
    if os.environ.get(DRIVES):
        for drive in drive_folders():
            if real.is_relative_to(os.path.realpath(drive)):
                return f"{number or 0}/{drive.name}"
    if number and sys.platform == "linux":
        return number
    # A filesystem that a program serves has no number of its own.
    uuid = uuid_of(real)
    return f"uuid-{uuid}" if uuid else ""


def drive_of(folder: Path) -> Path:
    """Return the folder in which the drive of a folder appears: one that ``DUNECHEST_DRIVES`` names, or its mount point.

    Raises
    ------
    OSError
        If the folder is not there.
    """
    real = folder.resolve(strict=True)
    if os.environ.get(DRIVES):
        named = [drive for drive in drive_folders() if real.is_relative_to(os.path.realpath(drive))]
        if named:
            return Path(os.path.realpath(max(named, key=lambda place: len(str(place)))))
    return _mounted(real)[1]


def drive_folders() -> tuple[Path, ...]:
    """Return the mount points where a chest may lie: drives, not the system's own inner mounts.

    ``DUNECHEST_DRIVES`` limits where drives are looked for: only the folders it names count then, none if it is empty.
    """
    named = os.environ.get(DRIVES)
    if named is not None:
        return tuple(dict.fromkeys(Path(item) for item in named.split(os.pathsep) if os.path.isabs(item)))
    found = []
    for part in mounts(drives_only=True):
        mount = Path(part.mountpoint)
        if mount.is_relative_to("/boot") or mount.is_relative_to("/snap"):
            continue
        if sys.platform == "darwin" and mount != Path("/") and not mount.is_relative_to("/Volumes"):
            continue
        found.append(mount)
    return tuple(dict.fromkeys(found))
