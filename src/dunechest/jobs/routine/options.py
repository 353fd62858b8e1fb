"""What a person chose for a routine, beside what is archived where and when."""

from __future__ import annotations

import msgspec


class RoutineOptions(msgspec.Struct, frozen=True):
    """What a person chose for a routine; `Routine` explains each.

    Parameters
    ----------
    kinds : tuple of str
        All libraries of these kinds, besides those that are named.
    every : bool
        All libraries in this person's home.
    verify_minutes : float
        So long each chest is verified afterwards; 0 for not at all.
    drill : bool
        Whether one library of each chest is drilled every month.
    keep : str
        The rule by which editions are dropped; none are if it is empty.
    on_mains : bool
        Whether it waits for mains power.
    limit : float, optional
        Most megabytes that are read in a second.
    patience : float, optional
        Days that it may be overdue before that is told; 3, or 30 if it only waits for a drive, if it is not given.
    notify : bool
        Whether it is told by a notification on the desktop.
    tell : str
        A command that gets the JSON document of a run that has something to tell.
    scheduler : str, optional
        ``systemd``, ``cron``, ``launchd``, ``task-scheduler`` or ``none``; the system's usual one if it is not given.
    """

    kinds: tuple[str, ...] = ()
    every: bool = False
    verify_minutes: float = 0.0
    drill: bool = False
    keep: str = ""
    on_mains: bool = False
    limit: float | None = None
    patience: float | None = None
    notify: bool = True
    tell: str = ""
    scheduler: str | None = None


#: The options of whoever chose nothing.
USUAL = RoutineOptions()
