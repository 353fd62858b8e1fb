"""Whether a drive may be unplugged."""

from __future__ import annotations

from pathlib import Path
from typing import ClassVar, Literal

import msgspec

from dunechest.findings import Finding
from dunechest.names import shown
from dunechest.values import Value


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


#: ``released``: unmounted, and may be unplugged. ``in-use``: not yet. ``flushed``: all is written, and a person has to
#: unmount it. ``shared``: this part is unmounted, others of the same drive are not. ``fixed``: nothing to unplug.
Outcome = Literal["released", "in-use", "flushed", "shared", "fixed"]
