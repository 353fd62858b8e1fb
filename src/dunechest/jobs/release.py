"""Release a chest's drive: make it safe to unplug.

What is open of it is finished, what waits in memory is written, whoever uses the drive is named, and it is unmounted by the
system's own command. Nothing is forced. Whether it is unmounted is asked of the system afterwards.
"""

from __future__ import annotations

import os
import time
from pathlib import Path
from typing import ClassVar, Literal

import msgspec

from dunechest.chest.chest import Chest
from dunechest.errors import CutOffError, DuneChestError, UsageError
from dunechest.findings import Finding
from dunechest.jobs.named import get_chest
from dunechest.jobs.undo import recover
from dunechest.machine import unplug
from dunechest.machine.drives import drive_of
from dunechest.machine.processes import Opener
from dunechest.names import AnyPath, quoted, shown
from dunechest.values import Value

#: ``released``: unmounted, and may be unplugged. ``in-use``: not yet. ``flushed``: all is written, and a person has to
#: unmount it. ``shared``: this part is unmounted, others of the same drive are not. ``fixed``: nothing to unplug.
Outcome = Literal["released", "in-use", "flushed", "shared", "fixed"]


class DriveUser(Value, msgspec.Struct, frozen=True):
    """A process that uses a drive: its number, its name, and a file or folder that it uses."""

    _shown: ClassVar[tuple[str, ...]] = ("name", "path")

    process_id: int
    name: str
    path: str


class ReleaseResult(Value, msgspec.Struct, frozen=True):
    """Whether a drive may be unplugged now.

    Parameters
    ----------
    label, chest_id : str
        Label and id of the chest.
    drive : Path
        Where its drive is, or was, mounted.
    outcome : str
        ``released``, ``in-use``, ``flushed``, ``shared`` or ``fixed``.
    users : tuple of DriveUser
        Who uses it still.
    other_mount_paths : tuple of Path
        Where other parts of the same drive are mounted.
    finished_libraries : tuple of str
        Names of libraries of which an interrupted change was finished first.
    findings : tuple of Finding
        What was begun there and is not finished; it can be at any time.
    command : str
        The command that would unmount it, if only another person may use it; empty otherwise.
    why : str
        Why it could not be unmounted, in the system's words.
    seconds : float
        How long it took.
    """

    _shown: ClassVar[tuple[str, ...]] = ("label", "outcome")
    _told: ClassVar[tuple[str, ...]] = (
        "label",
        "chest_id",
        "drive",
        "outcome",
        "may_unplug",
        "message",
        "users",
        "other_mount_paths",
        "finished_libraries",
        "findings",
        "command",
        "why",
        "seconds",
    )

    label: str
    chest_id: str
    drive: Path
    outcome: Outcome
    users: tuple[DriveUser, ...] = ()
    other_mount_paths: tuple[Path, ...] = ()
    finished_libraries: tuple[str, ...] = ()
    findings: tuple[Finding, ...] = ()
    command: str = ""
    why: str = ""
    seconds: float = 0.0

    @property
    def may_unplug(self) -> bool:
        """Whether it may be unplugged."""
        return self.outcome == "released"

    @property
    def message(self) -> str:
        """Whether it may be unplugged, and why not if it may not."""
        label = shown(self.label)
        if self.outcome == "released":
            return f"You may unplug {label}."
        if self.outcome == "in-use":
            names = ", ".join(dict.fromkeys(shown(user.name) for user in self.users))
            return f"Do not unplug {label} yet: it is used by {names}."
        if self.outcome == "shared":
            listed = ", ".join(shown(str(place)) for place in self.other_mount_paths)
            return f"Do not unplug {label} yet: another part of the same drive is mounted in {listed}."
        if self.outcome == "flushed":
            return f"Everything is written to {label}, but it is still mounted. Unmount it before you unplug it."
        return f"Everything is written to {label}. It is on a disk of this computer: there is nothing to unplug."


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
        findings.append(
            Finding("unfinished", "warning", str(error), "Look at it; the drive itself may be unplugged.")
        )
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
        Finding(
            "unfinished",
            "warning",
            f"A change of {shown(name)} in {shown(chest.label)} was decided and could not be finished: {shown(why)}.",
            f"It is finished when the chest is next used: dunechest chest show {quoted(chest.label)}",
        )
        for name, why in chest.unfinished.items()
    ]
    found += [
        Finding(
            "unfinished",
            "warning",
            f"An archive of {shown(entry.name)} to {shown(chest.label)} was interrupted. What it had copied is kept.",
            "To continue, archive the library once more.",
        )
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
