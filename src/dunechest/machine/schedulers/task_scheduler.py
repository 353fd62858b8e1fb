"""Tasks of the Windows Task Scheduler, as its documented XML (Task Scheduler Schema, version 1.2)."""

from __future__ import annotations

import subprocess
import tempfile
from pathlib import Path
from typing import ClassVar
from xml.etree import ElementTree

from dunechest.errors import RefusedError
from dunechest.machine.schedulers.entry import DAYS, Entry, File, Moment, Taken
from dunechest.machine.system_command import order

_FOLDER = "Dune Chest"
_NAMESPACE = "http://schemas.microsoft.com/windows/2004/02/mit/task"
_MONTHS = (
    "January", "February", "March", "April", "May", "June", "July", "August", "September", "October", "November",
    "December",
)  # fmt: skip
#: The log of the system in which each drive that appears is an event, and that event's number.
_DRIVES, _APPEARED = "Microsoft-Windows-Partition/Diagnostic", 1006
#: A day in the past: a trigger without it is none.
_SINCE = "2020-01-01"


class TaskScheduler:
    """A task that is started at its moments, every hour, and when a drive appears."""

    name: ClassVar[str] = "task-scheduler"

    def here(self) -> bool:
        """Whether the scheduler answers."""
        try:
            return order(["schtasks", "/Query", "/FO", "LIST"], check=False).returncode == 0
        except RefusedError:
            return False

    def files(self, entry: Entry) -> tuple[File, ...]:
        """Return the task's XML."""
        return (File(None, task(entry)),)

    def install(self, entry: Entry) -> None:
        """Hand the XML over."""
        with tempfile.TemporaryDirectory(prefix="dunechest-") as folder:
            file = Path(folder) / "task.xml"
            file.write_text(task(entry), encoding="utf-16")
            order(["schtasks", "/Create", "/TN", _task(entry.name), "/XML", str(file), "/F"])
        if not self.taken(entry.name).taken:
            raise RefusedError("The Task Scheduler did not take it.")

    def remove(self, name: str) -> None:
        """Delete the task."""
        if self.taken(name).taken:
            order(["schtasks", "/Delete", "/TN", _task(name), "/F"])

    def taken(self, name: str) -> Taken:
        """Ask whether the task is there."""
        try:
            answer = order(["schtasks", "/Query", "/TN", _task(name)], check=False)
        except RefusedError as error:
            return Taken(False, f"the Task Scheduler does not answer: {error}")
        if answer.returncode == 0:
            return Taken(True, f"the Task Scheduler has the task {_task(name)}")
        return Taken(False, f"the Task Scheduler has no task {_task(name)}")

    def same(self, entry: Entry) -> bool:
        """Whether it is as it would be given now: the scheduler writes it in its own words, so that is not compared."""
        return True


def _task(name: str) -> str:
    return f"\\{_FOLDER}\\{name}"


def task(entry: Entry) -> str:
    """Return the task of an entry as XML text, without its declaration."""
    ElementTree.register_namespace("", _NAMESPACE)
    top = ElementTree.Element(f"{{{_NAMESPACE}}}Task", version="1.2")
    about = _below(top, "RegistrationInfo")
    _below(about, "Description", f"Dune Chest: what is due (routine {entry.name})")
    triggers = _below(top, "Triggers")
    for moment in entry.moments:
        _calendar(triggers, moment)
    _hourly(triggers)
    _on_drive(triggers)
    principal = _below(_below(top, "Principals"), "Principal", id="Author")
    _below(principal, "LogonType", "InteractiveToken")
    _below(principal, "RunLevel", "LeastPrivilege")
    settings = _below(top, "Settings")
    for name, value in (
        ("MultipleInstancesPolicy", "IgnoreNew"),
        ("DisallowStartIfOnBatteries", "false"),
        ("StopIfGoingOnBatteries", "false"),
        ("StartWhenAvailable", "true"),
        ("Enabled", "true"),
        ("Hidden", "false"),
        ("WakeToRun", "false"),
        ("ExecutionTimeLimit", "PT0S"),
        ("Priority", "9"),
    ):
        _below(settings, name, value)
    execute = _below(_below(top, "Actions", Context="Author"), "Exec")
    _below(execute, "Command", entry.command[0])
    _below(execute, "Arguments", subprocess.list2cmdline(entry.command[1:]))
    ElementTree.indent(top)
    return ElementTree.tostring(top, encoding="unicode") + "\n"


def _below(parent: ElementTree.Element, name: str, text: str | None = None, **attributes: str) -> ElementTree.Element:
    found = ElementTree.SubElement(parent, f"{{{_NAMESPACE}}}{name}", attributes)
    found.text = text
    return found


def _calendar(triggers: ElementTree.Element, moment: Moment) -> None:
    if moment.hour is None:
        return  # every hour is there already
    trigger = _below(triggers, "CalendarTrigger")
    _below(trigger, "StartBoundary", f"{_SINCE}T{moment.hour:02d}:{moment.minute:02d}:00")
    _below(trigger, "Enabled", "true")
    if moment.day is not None:
        schedule = _below(trigger, "ScheduleByMonth")
        _below(_below(schedule, "DaysOfMonth"), "Day", str(moment.day))
        months = _below(schedule, "Months")
        for name in _MONTHS:
            _below(months, name)
    elif moment.weekdays:
        schedule = _below(trigger, "ScheduleByWeek")
        _below(schedule, "WeeksInterval", "1")
        days = _below(schedule, "DaysOfWeek")
        for number in moment.weekdays:
            _below(days, DAYS[number])
    else:
        _below(_below(trigger, "ScheduleByDay"), "DaysInterval", "1")


def _hourly(triggers: ElementTree.Element) -> None:
    trigger = _below(triggers, "TimeTrigger")
    repetition = _below(trigger, "Repetition")
    _below(repetition, "Interval", "PT1H")
    _below(trigger, "StartBoundary", f"{_SINCE}T00:00:00")
    _below(trigger, "Enabled", "true")


def _on_drive(triggers: ElementTree.Element) -> None:
    trigger = _below(triggers, "EventTrigger")
    _below(trigger, "Enabled", "true")
    query = ElementTree.Element("QueryList")
    select = ElementTree.SubElement(
        ElementTree.SubElement(query, "Query", Id="0", Path=_DRIVES), "Select", Path=_DRIVES
    )
    select.text = f"*[System[EventID={_APPEARED}]]"
    _below(trigger, "Subscription", ElementTree.tostring(query, encoding="unicode"))
    _below(trigger, "Delay", "PT5S")
