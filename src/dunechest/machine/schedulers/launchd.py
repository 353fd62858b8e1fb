"""Agents of a person's own launchd (``launchd.plist(5)``)."""

from __future__ import annotations

import os
import plistlib
from pathlib import Path
from typing import Any, ClassVar

from dunechest.errors import RefusedError
from dunechest.machine.folders import own_home
from dunechest.machine.schedulers.entry import Entry, File, Moment, Taken, same_files
from dunechest.machine.system_command import order
from dunechest.transfer import safe
from dunechest.transfer.owner import make_own

_PREFIX = "dunechest.routine."


class Launchd:
    """An agent that is started at its moments, every hour, and when any drive is mounted."""

    name: ClassVar[str] = "launchd"

    def here(self) -> bool:
        """Whether this person's own launchd answers."""
        try:
            return order(["launchctl", "print", _domain()], check=False).returncode == 0
        except RefusedError:
            return False

    def files(self, entry: Entry) -> tuple[File, ...]:
        """Return the agent's property list."""
        text = plistlib.dumps(properties(entry), sort_keys=False).decode()
        return (File(_place(entry.name), text),)

    def install(self, entry: Entry) -> None:
        """Write the agent and have it loaded."""
        (file,) = self.files(entry)
        assert file.place is not None
        self.remove(entry.name)
        try:
            make_own(file.place.parent)
            safe.write_file(file.place, file.text.encode(), mode=0o600)
            order(["launchctl", "bootstrap", _domain(), str(file.place)])
        except (OSError, RefusedError) as error:
            self.remove(entry.name)
            raise RefusedError(f"launchd did not take it, and nothing was left: {error}") from error

    def remove(self, name: str) -> None:
        """Have the agent unloaded, and remove it."""
        place = _place(name)
        if not place.is_file():
            return
        order(["launchctl", "bootout", f"{_domain()}/{_PREFIX}{name}"], check=False)
        try:
            place.unlink()
        except OSError as error:
            raise RefusedError(f"{place} cannot be removed: {error.strerror}") from error

    def taken(self, name: str) -> Taken:
        """Ask whether the agent is loaded."""
        label = _PREFIX + name
        try:
            answer = order(["launchctl", "print", f"{_domain()}/{label}"], check=False)
        except RefusedError as error:
            return Taken(False, f"launchd does not answer: {error}")
        if answer.returncode == 0:
            return Taken(True, f"launchd has loaded the agent {label}")
        return Taken(False, f"launchd has no agent {label}")

    def same(self, entry: Entry) -> bool:
        """Whether the files are as they would be written now."""
        return same_files(self.files(entry))


def _domain() -> str:
    return f"gui/{os.getuid()}" if hasattr(os, "getuid") else "gui"


def _place(name: str) -> Path:
    return own_home() / "Library" / "LaunchAgents" / f"{_PREFIX}{name}.plist"


def properties(entry: Entry) -> dict[str, Any]:
    """Return the agent of an entry as ``launchd.plist(5)`` has it."""
    times = [time for moment in (*entry.moments, Moment()) for time in calendar_intervals(moment)]
    return {
        "Label": _PREFIX + entry.name,
        "ProgramArguments": list(entry.command),
        "StartCalendarInterval": times,
        "StartOnMount": True,
        "RunAtLoad": False,
        "ProcessType": "Background",
        "LowPriorityIO": True,
        "Nice": 19,
    }


def calendar_intervals(moment: Moment) -> list[dict[str, int]]:
    """Return a moment as launchd writes it: one for each day of the week, Sunday being 0.

    >>> calendar_intervals(Moment(30, 18, weekdays=(6,))), calendar_intervals(Moment())
    ([{'Minute': 30, 'Hour': 18, 'Weekday': 0}], [{'Minute': 0}])
    """
    base = {"Minute": moment.minute}
    if moment.hour is not None:
        base["Hour"] = moment.hour
    if moment.day is not None:
        base["Day"] = moment.day
    if moment.weekdays:
        return [{**base, "Weekday": (number + 1) % 7} for number in moment.weekdays]
    return [base]
