"""Release a chest's drive: make it safe to unplug.

What is open of it is finished, what waits in memory is written, whoever uses the drive is named, and it is unmounted by the
system's own command. Nothing is forced. Whether it is unmounted is asked of the system afterwards.
"""

from __future__ import annotations

import os
import time
from pathlib import Path

from dunechest.chest.chest import Chest
from dunechest.errors import CutOffError, DuneChestError, UsageError
from dunechest.findings import Finding
from dunechest.jobs.known.named import get_chest
from dunechest.jobs.undo import recover
from dunechest.machine import unplug
from dunechest.machine.drives import drive_of
from dunechest.machine.processes import Opener
from dunechest.model.findings import finding_of
from dunechest.model.release import DriveUser, Outcome, ReleaseResult
from dunechest.names import AnyPath, quoted, shown


def release(chest: Chest | AnyPath) -> ReleaseResult:
    """Make a chest's drive safe to unplug: finish, flush, see who uses it, unmount.

    Parameters
    ----------
    chest : Chest, path or label
        Which.

    Returns
    -------
    ReleaseResult
        Look at `ReleaseResult.may_unplug`.

    Raises
    ------
    UsageError
        If it is on a server: then there is nothing to unplug.
    NotConnectedError
        If its drive is not connected: then there is nothing to release.
    CutOffError
        If the drive reports that something could not be written.
    """
    begun = time.monotonic()
    found = get_chest(chest)
    if found.is_on_server:
        raise UsageError(
            f"The chest {shown(found.label)} is on a server ({shown(found.place)}): there is no drive to unplug. Nothing was "
            "done."
        )
    findings = list(_unfinished(found))
    try:
        recover()
    except DuneChestError as error:
        findings.append(finding_of("unfinished/recover", error=str(error)))
    drive = drive_of(found.folder)
    told = ReleaseResult(
        found.label, found.id, drive, "fixed", finished_libraries=tuple(found.recovered), findings=tuple(findings)
    )
    flush(drive, found.label)
    return _released(told, found.folder, begun)


def flush(drive: Path, label: str) -> None:
    """Write out what waits in memory for a drive.

    Raises
    ------
    CutOffError
        If the drive reports that something could not be written.
    """
    try:
        unplug.flush(drive)
    except OSError as error:
        raise CutOffError(
            f"{shown(label)} reports that something could not be written to it: {error.strerror}. Do not trust what was "
            f"written last, and check it: dunechest verify {quoted(label)}"
        ) from error


def _unfinished(chest: Chest) -> list[Finding]:
    """Return what was begun in a chest and is not finished: no reason to leave the drive plugged in."""
    found = [
        finding_of("unfinished/change", name=name, chest=chest.label, why=why)
        for name, why in chest.unfinished.items()
    ]
    found += [
        finding_of("unfinished/archive", name=entry.name, chest=chest.label)
        for entry in chest.bags()
        if entry.state == "unfinished"
    ]
    return found


def _released(told: ReleaseResult, folder: Path, begun: float) -> ReleaseResult:
    from msgspec.structs import replace

    drive = told.drive

    def end(outcome: Outcome, **more: object) -> ReleaseResult:
        return replace(told, outcome=outcome, seconds=time.monotonic() - begun, **more)

    if not unplug.is_mounted(drive) or _is_systems(drive):
        return end("fixed")
    users = unplug.users(drive)
    if users:
        return end("in-use", users=tuple(_user(item) for item in users))
    others = unplug.beside(drive)
    done = unplug.unmount(drive)
    if not done.done:
        late = unplug.users(drive)
        if late:
            return end("in-use", users=tuple(_user(item) for item in late), why=done.why)
        return end("flushed", command=done.command, why=done.why, other_mount_paths=others)
    if os.path.isdir(folder):
        # Something else appeared in the same folder: another mount was beneath it.
        return end("flushed", why=f"something is still mounted in {shown(str(drive))}", other_mount_paths=others)
    return end("shared" if others else "released", other_mount_paths=others)


def _is_systems(drive: Path) -> bool:
    """Whether a drive is one that the system itself lives on, or that this person's home is on."""
    real = Path(os.path.realpath(drive))
    if real == Path(real.anchor) and os.name != "nt":
        return True
    try:
        home = drive_of(Path.home())
    except (OSError, RuntimeError):
        return False
    return os.path.realpath(home) == str(real)


def _user(item: Opener) -> DriveUser:
    return DriveUser(item.pid, item.name, item.path)
