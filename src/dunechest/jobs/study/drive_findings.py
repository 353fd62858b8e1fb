"""What is to be said of a drive, for one library, before anything is copied."""

from __future__ import annotations

import os
from collections.abc import Iterable
from pathlib import Path

from dunechest.chest.chest import Chest
from dunechest.findings import Finding
from dunechest.library.library import Library
from dunechest.machine import volumes
from dunechest.machine.folders import own_home
from dunechest.model.study import Drive
from dunechest.names import shown
from dunechest.transfer import elsewhere
from dunechest.words import number

#: Bytes a second under which a drive is called slow.
SLOW = 12_000_000


def drive_findings(library: Library, chest: Chest, drive: Drive) -> list[Finding]:
    """Return the findings about a drive that do not depend on how much is to be archived."""
    return [*_cannot_be_written(chest, drive), *_same_device(library, chest, drive), *_sort_of_drive(chest, drive)]


def copy_findings(source: Chest, target: Chest, drive: Drive) -> list[Finding]:
    """Return the findings about a drive that another chest is copied to, whatever is copied."""
    try:
        shared = volumes.devices(source.folder) & drive.devices
    except OSError:
        shared = frozenset()
    found = _cannot_be_written(target, drive)
    if shared:
        found.append(
            Finding(
                "same-device",
                "warning",
                f"The chests {shown(source.label)} and {shown(target.label)} are on the same physical disk "
                f"({shown(', '.join(sorted(shared)))}): if that fails, both are lost.",
                "This does not protect against disk failure; use another drive.",
            )
        )
    return [*found, *_sort_of_drive(target, drive)]


def _cannot_be_written(chest: Chest, drive: Drive) -> list[Finding]:
    findings = []
    if drive.why_not:
        findings.append(
            Finding(
                "read-only",
                "blocks",
                f"The chest {shown(chest.label)} cannot be written to: {drive.why_not}.",
                "Make the drive writable (its switch, its permissions, how it is mounted), or use another drive.",
            )
        )
    return findings


def _sort_of_drive(chest: Chest, drive: Drive) -> list[Finding]:
    findings: list[Finding] = []
    kind = drive.place.type
    if elsewhere.place_of(chest.folder) is not None:
        return findings  # whoever named a server knows that it is one
    if volumes.is_network(kind):
        findings.append(
            Finding(
                "network",
                "warning",
                f"The chest is not on a drive of this computer: its filesystem ({shown(kind)}) is on a network or "
                "provided by a program.",
                "Use a drive that you can unplug and put away, or make sure who else can write there.",
            )
        )
    if kind in ("tmpfs", "ramfs"):
        findings.append(
            Finding(
                "in-memory",
                "warning",
                "The chest is in memory: it is lost when the computer is switched off.",
                "Use a real drive.",
            )
        )
    mark = volumes.sync_mark(chest.folder, drive.place.mount, Path(os.path.realpath(own_home())))
    if mark:
        findings.append(
            Finding(
                "sync-folder",
                "warning",
                f"The chest's folder seems to be synchronised with another place: {shown(mark)}.",
                "Deletions and damage there are copied here. Use a drive of your own.",
            )
        )
    if volumes.removable(drive.devices):
        findings.append(
            Finding(
                "removable",
                "info",
                "The drive can be unplugged.",
                "Eject it before you unplug it, and keep it away from the computer.",
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
            "warning",
            f"The chest {shown(chest.label)} is on the same physical disk as the library "
            f"({shown(', '.join(sorted(own & drive.devices)))}): if that fails, both are lost.",
            "This does not protect against disk failure; use another drive.",
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
                "info",
                f"{number(len(names), 'name')} cannot be kept on this drive ({shown(drive.place.type)}) or in a "
                f"manifest: {some}.",
                "They get another name there; a restore gives the original names back.",
            )
        )
    probed = drive.probed
    if probed is not None and links and not probed.links:
        findings.append(
            Finding(
                "no-links",
                "info",
                f"The drive cannot hold symbolic links, and the library has {links}.",
                "They are recorded; a restore recreates them.",
            )
        )
    if probed is not None and probed.time_step_ns > 1 and coarse_files:
        step = probed.time_step_ns / 1e9
        findings.append(
            Finding(
                "coarse-times",
                "info",
                f"The drive keeps file times in steps of {step:g} s, too coarse for {number(coarse_files, 'file')}.",
                "The exact times are recorded; a restore gives them back.",
            )
        )
    return findings


def slow_finding(speed: float, need: int) -> list[Finding]:
    """Say so if a drive writes so slowly (bytes a second) that a person should know beforehand."""
    if speed >= SLOW:
        return []
    hours = need / max(speed, 1) / 3600
    span = f"{hours:.1f} hours" if hours >= 1 else number(max(1, round(hours * 60)), "minute")
    return [
        Finding(
            "slow",
            "warning",
            f"The drive is slow ({speed / 1e6:.1f} MB a second): writing this library takes about {span}, then it is read back.",
            "Try another socket or cable, or run it overnight. If it is interrupted, the same command continues.",
        )
    ]
