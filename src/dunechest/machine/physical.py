"""What a folder lies on: below partitions, volume managers, encryption, subvolumes, images in files and bind mounts."""

from __future__ import annotations

import os
import platform
import sys
from pathlib import Path
from typing import Literal

import msgspec

from dunechest.machine.drives import DRIVES, drive_folders
from dunechest.machine.mounts import mounts
from dunechest.machine.volumes import devices, is_network
from dunechest.transfer import elsewhere

#: Why a copy protects against nothing: it is gone with the power, or with this computer.
Weakness = Literal["", "memory", "this-computer", "library-disk"]
_MEMORY = frozenset({"tmpfs", "ramfs", "devtmpfs"})
#: Devices whose room is memory.
_IN_MEMORY = ("ram", "zram")
_LOCAL = frozenset({"localhost", "ip6-localhost", "::1", "0.0.0.0"})


class Physical(msgspec.Struct, frozen=True):
    """What a folder lies on.

    Parameters
    ----------
    disks : frozenset of str
        What tells its disks from all others, wherever they are plugged in; empty where a system does not tell.
    names : frozenset of str
        What this computer calls its disks now.
    weakness : str
        Why a copy there protects against nothing: ``memory``, ``this-computer``; empty if nothing speaks against it.
    """

    disks: frozenset[str]
    names: frozenset[str]
    weakness: Weakness


def physical(folder: Path) -> Physical:
    """Return what a folder lies on; a folder that ``DUNECHEST_DRIVES`` names is a drive by itself, and so is a server.

    Raises
    ------
    OSError
        If the folder cannot be asked about.
    """
    place = elsewhere.place_of(folder)
    if place is not None:
        return Physical(frozenset(), frozenset(), "")
    real = folder.resolve(strict=True)
    if os.environ.get(DRIVES) and any(real.is_relative_to(os.path.realpath(drive)) for drive in drive_folders()):
        return Physical(frozenset(), frozenset(), "")
    names = devices(real)
    return Physical(frozenset(filter(None, map(_disk_id, names))), names, _weakness(real, names))


def _weakness(real: Path, names: frozenset[str]) -> Weakness:
    device, kind = _mounted(real)
    if kind in _MEMORY or any(name.startswith(_IN_MEMORY) for name in names) or _image_in_memory(device):
        return "memory"
    return "this-computer" if is_network(kind) and is_this_computer(host_of(device)) else ""


def _mounted(real: Path) -> tuple[str, str]:
    best, depth = ("", ""), -1
    for part in mounts():
        mount = Path(part.mountpoint)
        if len(mount.parts) >= depth and real.is_relative_to(mount):
            best, depth = (part.device, part.fstype.lower()), len(mount.parts)
    return best


def _image_in_memory(device: str) -> bool:
    """Whether a device is an image in a file that lies in memory."""
    if sys.platform != "linux" or not device.startswith("/dev/loop"):
        return False
    try:
        text = Path("/sys/block", os.path.basename(device), "loop", "backing_file").read_text(encoding="utf-8")
        return _mounted(Path(text.strip()))[1] in _MEMORY
    except OSError:
        return False


def host_of(device: str) -> str:
    """Return the computer that serves a share, by what was mounted.

    >>> host_of("//nas/photos"), host_of("nas:/photos"), host_of("tern@[::1]:/photos"), host_of("/dev/sda1")
    ('nas', 'nas', '::1', '')
    """
    if device.startswith("//"):
        host = device[2:].partition("/")[0]
    elif not device.startswith("/") and ":" in device:
        host = device.rpartition(":")[0]
    else:
        return ""
    return host.rpartition("@")[2].strip("[]")


def is_this_computer(host: str) -> bool:
    """Whether a computer's name or address is this one's, as far as that can be told without asking the network."""
    host = host.casefold()
    if not host:
        return False
    own = platform.node().casefold()
    if host in _LOCAL or host.startswith("127.") or host in (own, own.partition(".")[0], f"{own}.local"):
        return True
    import psutil

    return any(
        host == address.address.partition("%")[0] for found in psutil.net_if_addrs().values() for address in found
    )


def _disk_id(name: str) -> str:
    """Return what tells a disk from all others: what it says of itself, its size and its table of partitions."""
    if sys.platform != "linux":
        return ""
    block = Path("/sys/block", name)
    told = _first_text(block / "wwid", block / "device" / "wwid", block / "serial", block / "device" / "serial")
    told = told or _usb_serial(block) or ""
    table = _table_id(block)
    return f"{told or '-'}:{_first_text(block / 'size')}:{table}"[:120] if told or table else ""


def _first_text(*files: Path) -> str:
    for file in files:
        try:
            text = "".join(file.read_text(encoding="ascii", errors="ignore").split())
        except OSError:
            continue
        if text:
            return text
    return ""


def _usb_serial(block: Path) -> str:
    try:
        above = (block / "device").resolve(strict=True).parents
    except OSError:
        return ""
    return next((_first_text(place / "serial") for place in above if (place / "idVendor").exists()), "")


def _table_id(block: Path) -> str:
    """Return the id of a disk's table of partitions, or of its first partition that has one."""
    own = {f"/dev/{part.name}" for part in block.glob(f"{block.name}*")} if block.exists() else set()
    try:
        with os.scandir("/dev/disk/by-partuuid") as entries:
            found = sorted(entry.name for entry in entries if os.path.realpath(entry.path) in own)
    except OSError:
        return ""
    return found[0] if found else ""
