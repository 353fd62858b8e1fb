"""The operating system's own schedulers, each behind the same few functions.

All that one is asked to do is to start a command at some moments, every hour, and when a drive appears where it can
tell. What is due then is decided by the command itself, so that no scheduler has to be trusted with it.
"""

from __future__ import annotations

from dunechest.errors import UsageError
from dunechest.machine.identity import system_name
from dunechest.machine.schedulers.cron import Cron
from dunechest.machine.schedulers.entry import Entry, Moment, Scheduler, Taken
from dunechest.machine.schedulers.launchd import Launchd
from dunechest.machine.schedulers.systemd import Systemd
from dunechest.machine.schedulers.task_scheduler import TaskScheduler
from dunechest.names import shown

__all__ = ["NAMES", "Entry", "Moment", "Scheduler", "Taken", "scheduler", "usual_scheduler"]

_EVERY: dict[str, type[Systemd] | type[Cron] | type[Launchd] | type[TaskScheduler]] = {
    "systemd": Systemd,
    "cron": Cron,
    "launchd": Launchd,
    "task-scheduler": TaskScheduler,
}
#: What each is called in routine files and on the command line.
NAMES = tuple(_EVERY)

_BY_SYSTEM = {"linux": ("systemd", "cron"), "macos": ("launchd",), "windows": ("task-scheduler",)}


def scheduler(name: str) -> Scheduler:
    """Return the scheduler of that name.

    Raises
    ------
    UsageError
        If there is none.
    """
    if name not in _EVERY:
        raise UsageError(f"There is no scheduler {shown(name)!r}. Schedulers: {', '.join(NAMES)}.")
    return _EVERY[name]()


def usual_scheduler() -> Scheduler | None:
    """Return the first scheduler of this system that runs here and takes orders of this person; None if none does."""
    for name in _BY_SYSTEM[system_name()]:
        found = _EVERY[name]()
        if found.here():
            return found
    return None
