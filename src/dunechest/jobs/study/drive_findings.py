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
from dunechest.model.findings import finding_of
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
            finding_of(
                "same-device/chests", source=source.label, target=target.label, devices=", ".join(sorted(shared))
            )
        )
    return [*found, *_sort_of_drive(target, drive)]


def _cannot_be_written(chest: Chest, drive: Drive) -> list[Finding]:
    findings = []
    if drive.why_not:
        findings.append(finding_of("read-only", chest=chest.label, why_not=drive.why_not))
    return findings


def _sort_of_drive(chest: Chest, drive: Drive) -> list[Finding]:
    findings: list[Finding] = []
    kind = drive.place.type
    if elsewhere.place_of(chest.folder) is not None:
        return findings  # whoever named a server knows that it is one
    if volumes.is_network(kind):
        findings.append(finding_of("network", kind=kind))
    if kind in ("tmpfs", "ramfs"):
        findings.append(finding_of("in-memory"))
    mark = volumes.sync_mark(chest.folder, drive.place.mount, Path(os.path.realpath(own_home())))
    if mark:
        findings.append(finding_of("sync-folder", mark=mark))
    if volumes.removable(drive.devices):
        findings.append(finding_of("removable"))
    return findings


def _same_device(library: Library, chest: Chest, drive: Drive) -> list[Finding]:
    try:
        own = volumes.devices(library.path)
    except OSError:
        return []
    if not own & drive.devices:
        return []
    return [finding_of("same-device", chest=chest.label, devices=", ".join(sorted(own & drive.devices)))]


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
        findings.append(finding_of("names", names=len(names), filesystem=drive.place.type, some=some))
    probed = drive.probed
    if probed is not None and links and not probed.links:
        findings.append(finding_of("no-links", links=links))
    if probed is not None and probed.time_step_ns > 1 and coarse_files:
        step = probed.time_step_ns / 1e9
        findings.append(finding_of("coarse-times", step=step, files=coarse_files))
    return findings


def slow_finding(speed: float, need: int) -> list[Finding]:
    """Say so if a drive writes so slowly (bytes a second) that a person should know beforehand."""
    if speed >= SLOW:
        return []
    hours = need / max(speed, 1) / 3600
    span = f"{hours:.1f} hours" if hours >= 1 else number(max(1, round(hours * 60)), "minute")
    return [finding_of("slow", speed=speed / 1000000.0, span=span)]
