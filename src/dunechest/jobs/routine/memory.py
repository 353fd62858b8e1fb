"""What this computer remembers of a routine: when it ran for which chest, what came of it, and what was told.

One small JSON file beside the routine's own. It is only a memory: without it, or with a lying one, the routine runs once
more, which costs time and changes nothing.
"""

from __future__ import annotations

import math
from pathlib import Path

import msgspec

from dunechest.jobs.routine.file import routines_folder
from dunechest.ledger import events
from dunechest.names import shown
from dunechest.transfer import disk, safe
from dunechest.transfer.owner import hand_over, make_own

_ENDING = ".memory.json"
_MOST = 4 << 20
#: Runs that are remembered of each routine.
_RUNS = 60
#: Seconds of a day, and the latest time that is believed: what lies further ahead was written with another clock.
DAY = 86_400.0


class Run(msgspec.Struct, frozen=True, forbid_unknown_fields=False):
    """A run that ended: from when to when, its outcome, the message that was told of it if any, and its lines."""

    begun: float
    ended: float
    outcome: str
    message: str = ""
    command: str = ""
    lines: tuple[str, ...] = ()


class Memory(msgspec.Struct, forbid_unknown_fields=False):
    """What is remembered of a routine.

    Attributes
    ----------
    settled : dict
        By the id of a chest, the latest of the routine's times that was done for it, or decided.
    served : dict
        By the id of a chest, when it was last served.
    away : list of str
        Ids of the chests that were not connected when that was last looked at.
    told : dict
        By what was told, when.
    running_since : float or None
        When the run at hand was begun; of one that was interrupted this stays.
    attempts : int
        Runs that were begun since one last ended.
    drilled : dict
        By the id of a chest, the month (``2026-11``) of the last drill.
    runs : list of Run
        The latest runs, the last one at the end.
    """

    settled: dict[str, float] = {}
    served: dict[str, float] = {}
    away: list[str] = []
    told: dict[str, float] = {}
    running_since: float | None = None
    attempts: int = 0
    drilled: dict[str, str] = {}
    runs: list[Run] = []

    @property
    def last(self) -> Run | None:
        """The last run that ended."""
        return self.runs[-1] if self.runs else None


def believed(when: float | None, now: float) -> float | None:
    """Return a time that was written down, or None if there is none or it is from a clock that was a day or more ahead."""
    if when is None or not math.isfinite(when) or when > now + DAY:
        return None
    return when


def late_key(chest: str) -> str:
    """Return under what it is remembered that a chest, by its id, was told to be overdue."""
    return f"late:{chest}"


def _place(name: str) -> Path:
    return routines_folder() / f"{name}{_ENDING}"


def recall(name: str) -> Memory:
    """Return what is remembered of a routine; nothing if that cannot be read."""
    try:
        return msgspec.json.decode(safe.read_bounded(_place(name), _MOST), type=Memory)
    except (OSError, ValueError, msgspec.MsgspecError, RecursionError):
        return Memory()


def remember(name: str, memory: Memory) -> None:
    """Write down what is to be remembered; where that cannot be done, `events.take_lost` tells of it."""
    memory.runs = memory.runs[-_RUNS:]
    place = _place(name)
    try:
        make_own(place.parent, 0o700)
        safe.write_file(place, msgspec.json.encode(memory), mode=0o600)
        hand_over(place.parent)
    except OSError as error:
        events.lost(f"What the routine {name} did cannot be written down in {shown(str(place))}: {error.strerror}.")


def forget(name: str) -> None:
    """Remove what is remembered of a routine."""
    disk.remove(_place(name), missing_ok=True)
