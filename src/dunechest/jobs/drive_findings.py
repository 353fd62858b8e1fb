"""What is to be said of a drive, for one library, before a byte moves."""

from __future__ import annotations

import os
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path

from dunechest.chest.chest import Chest
from dunechest.findings import Finding
from dunechest.library.library import Library
from dunechest.machine import volumes
from dunechest.machine.drives import Filesystem, filesystem, with_limits
from dunechest.machine.folders import own_home
from dunechest.machine.probe import Probed, probe, stricter
from dunechest.names import shown
from dunechest.words import number

#: Bytes a second under which a drive is called slow.
SLOW = 12_000_000
#: Without earlier archives to learn from, a library is taken to grow by this share.
_GROWTH = 0.1
#: So many times the growth seen are to fit beside what is archived now.
_TIMES = 3


@dataclass(frozen=True, slots=True)
class Drive:
    """The drive a chest is on, as found.

    Parameters
    ----------
    place : Filesystem
        Its filesystem, with the limits that hold by its type and by the probe.
    probed : Probed or None
        What the probe found; None if nothing can be written.
    why_not : str
        Why nothing can be written, or empty.
    devices : frozenset of str
        Physical devices it is on, as far as the system tells.
    """

    place: Filesystem
    probed: Probed | None
    why_not: str
    devices: frozenset[str]


def examine(chest: Chest) -> Drive:
    """Look at a chest's drive, and try with a few empty files what it can hold.

    Raises
    ------
    OSError
        If its filesystem cannot be asked.
    """
    place = filesystem(chest.folder)
    devices = volumes.devices(chest.folder)
    try:
        probed = probe(chest.folder)
    except OSError as error:
        return Drive(place, None, error.strerror or str(error), devices)
    return Drive(with_limits(place, stricter(place.limits, probed)), probed, "", devices)


def drive_findings(library: Library, chest: Chest, drive: Drive) -> list[Finding]:
    """Return the findings about a drive that do not depend on how much is to be archived."""
    findings = []
    if drive.why_not:
        findings.append(
            Finding(
                "read-only",
                "stop",
                f"Nothing can be written to the chest {shown(chest.label)}: {drive.why_not}.",
                "Make the drive writable (a switch on it, its permissions, how it is mounted), or use another one.",
            )
        )
    findings += _same_device(library, chest, drive)
    kind = drive.place.type
    if volumes.is_network(kind):
        findings.append(
            Finding(
                "network",
                "warn",
                f"The chest does not lie on a drive of this computer: its filesystem ({shown(kind)}) is on a network "
                "or served by a program.",
                "Use a drive that you can unplug and put away, or be sure who else writes there.",
            )
        )
    if kind in ("tmpfs", "ramfs"):
        findings.append(
            Finding(
                "in-memory",
                "warn",
                "The chest lies in memory and is gone when the computer is switched off.",
                "Use a real drive.",
            )
        )
    mark = volumes.sync_mark(chest.folder, drive.place.mount, Path(os.path.realpath(own_home())))
    if mark:
        findings.append(
            Finding(
                "sync-folder",
                "warn",
                f"Some service seems to keep the chest's folder in step with another place: {shown(mark)}.",
                "What is deleted or spoilt there is deleted or spoilt here; use a drive of your own.",
            )
        )
    if volumes.removable(drive.devices):
        findings.append(
            Finding(
                "removable",
                "note",
                "The drive can be unplugged.",
                "Let the system eject it before you pull it out; then put it away from the computer.",
            )
        )
    return findings


def _same_device(library: Library, chest: Chest, drive: Drive) -> list[Finding]:
    try:
        own = volumes.devices(library.path)
    except OSError:
        return []
    if not own & drive.devices:
        return []
    return [
        Finding(
            "same-device",
            "warn",
            f"The chest {shown(chest.label)} is on the same physical disk as the library "
            f"({shown(', '.join(sorted(own & drive.devices)))}): if it fails, both are gone.",
            "Use another drive for a copy that counts.",
        )
    ]


def holds_findings(drive: Drive, changed: Iterable[str], links: int, coarse_files: int) -> list[Finding]:
    """Return the findings about what the drive cannot hold as it is.

    Parameters
    ----------
    drive : Drive
        The drive.
    changed : iterable of str
        Paths that get another name on it.
    links, coarse_files : int
        Symbolic links, and files whose time is finer than the drive can keep.
    """
    findings = []
    names = list(changed)
    if names:
        some = ", ".join(shown(name) for name in names[:3]) + (", ..." if len(names) > 3 else "")
        findings.append(
            Finding(
                "names",
                "note",
                f"{number(len(names), 'name')} that cannot be kept on this drive ({shown(drive.place.type)}) or in a "
                f"manifest: {some}.",
                "They get another name there, and restoring brings the true ones back.",
            )
        )
    probed = drive.probed
    if probed is not None and links and not probed.links:
        findings.append(
            Finding(
                "no-links",
                "note",
                f"The drive's filesystem holds no symbolic links, and the library has {links}.",
                "They are recorded, and restoring makes them again.",
            )
        )
    if probed is not None and probed.time_step_ns > 1 and coarse_files:
        step = probed.time_step_ns / 1e9
        findings.append(
            Finding(
                "coarse-times",
                "note",
                f"The drive keeps file times in steps of {step:g} s, too coarse for {number(coarse_files, 'file')}.",
                "The true times are recorded, and restoring brings them back.",
            )
        )
    return findings


def headroom(own_sizes: Iterable[tuple[str, int]], need: int) -> int:
    """Return the bytes that should stay free for what the library will grow by.

    Parameters
    ----------
    own_sizes : iterable of (str, int)
        Moment and bytes of each earlier archive of the same library in this chest.
    need : int
        What it needs now.
    """
    sizes = [size for _, size in sorted(own_sizes)]
    if len(sizes) >= 2:
        return max(0, _TIMES * (sizes[-1] - sizes[0]) // (len(sizes) - 1))
    return int(need * _GROWTH)


def room_findings(need: int, promised: int, spare: int, drive: Drive) -> list[Finding]:
    """Compare the room on a drive with what is needed, and with what the library will grow by (bytes)."""
    place = drive.place
    missing = need + promised - place.free
    if missing > 0:
        return [
            Finding(
                "no-room",
                "stop",
                f"The drive has {place.free:,} bytes free, and {need + promised:,} are needed: "
                f"{missing:,} bytes are missing.",
                "Free that much on the drive, or use another one.",
            )
        ]
    if place.free - need - promised < spare:
        return [
            Finding(
                "little-room",
                "warn",
                f"It fits, and {place.free - need - promised:,} bytes stay free; by how it grew, {spare:,} will "
                "soon be needed.",
                "Think of a larger drive before the next time.",
            )
        ]
    return []


def names_findings(needed: int, drive: Drive) -> list[Finding]:
    """Compare the files and folders that a drive can still hold with what is needed: some have only so many."""
    free = drive.place.free_names
    if free is None or free >= needed:
        return []
    return [
        Finding(
            "no-room",
            "stop",
            f"The drive's filesystem can hold {number(free, 'file')} and folders more, whatever their size, and "
            f"{needed:,} are needed.",
            "Use another drive, or one that was made with room for more files.",
        )
    ]


def slow_finding(speed: float, need: int) -> list[Finding]:
    """Say so if a drive writes so slowly (bytes a second) that a person should know beforehand."""
    if speed >= SLOW:
        return []
    hours = need / max(speed, 1) / 3600
    span = f"{hours:.1f} hours" if hours >= 1 else number(max(1, round(hours * 60)), "minute")
    return [
        Finding(
            "slow",
            "warn",
            f"The drive writes {speed / 1e6:.1f} MB a second: this library takes about {span}, then is read back.",
            "Try another socket or cable, or start it in the evening: a run that is cut off goes on from there.",
        )
    ]
