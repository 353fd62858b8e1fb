"""What a run of a routine did, and what the person is to know of it: plain values."""

from __future__ import annotations

from typing import ClassVar, Literal, NamedTuple

import msgspec

from dunechest.values import Value

#: ``problem`` is damage or a failure, ``blocked`` waits for a decision of a person, ``late`` for a drive, ``interrupted`` for a
#: drive that went away in the middle, ``busy`` for another program.
StepOutcome = Literal["done", "unchanged", "problem", "blocked", "late", "interrupted", "busy"]

#: The worst first.
_ORDER: tuple[StepOutcome, ...] = ("problem", "blocked", "late", "interrupted", "busy", "done", "unchanged")

#: What a person is told of; all else is silent.
TOLD: frozenset[StepOutcome] = frozenset({"problem", "blocked", "late"})


class RoutineStep(Value, msgspec.Struct, frozen=True):
    """One thing that a routine did, or could not do.

    Parameters
    ----------
    what : str
        ``archive``, ``copy``, ``verify``, ``drill``, ``drop`` or ``find``; ``wait`` for a drive that is not there,
        ``routine`` for the routine itself.
    outcome : str
        One of `StepOutcome`.
    message : str
        What happened, as a person reads it.
    chest_label, library : str
        Label of the chest and name of the library; empty where it is about none.
    command : str
        The command that decides or sets right; empty if there is none.
    codes : tuple of str
        Codes of the findings that block.
    """

    _shown: ClassVar[tuple[str, ...]] = ("what", "outcome", "chest_label", "library")

    what: str
    outcome: StepOutcome
    message: str
    chest_label: str = ""
    library: str = ""
    command: str = ""
    codes: tuple[str, ...] = ()


class RoutineRun(Value, msgspec.Struct, frozen=True):
    """What one run of a routine did.

    Parameters
    ----------
    name : str
        The routine.
    begun_at, ended_at : float
        From when to when (seconds since 1970).
    steps : tuple of RoutineStep
        In the order in which they were done.
    told : bool
        Whether the person was told of the worst one.
    absent_labels : tuple of str
        Labels of the chests that were due and not connected.
    waiting_for : str
        Why nothing was done though something was due; empty if nothing kept it.
    failed_ways : tuple of str
        Ways of telling that failed, each with the reason.
    """

    _shown: ClassVar[tuple[str, ...]] = ("name", "outcome")
    _told: ClassVar[tuple[str, ...]] = (
        "name",
        "outcome",
        "ok",
        "begun_at",
        "ended_at",
        "message",
        "told",
        "steps",
        "absent_labels",
        "waiting_for",
        "failed_ways",
    )
    _rows: ClassVar[str] = "steps"

    name: str
    begun_at: float
    ended_at: float
    steps: tuple[RoutineStep, ...] = ()
    told: bool = False
    absent_labels: tuple[str, ...] = ()
    waiting_for: str = ""
    failed_ways: tuple[str, ...] = ()

    @property
    def worst(self) -> RoutineStep | None:
        """The step that a person should know of first; None if there is none to be told of."""
        return min(
            (step for step in self.steps if step.outcome in TOLD),
            key=lambda step: _ORDER.index(step.outcome),
            default=None,
        )

    @property
    def outcome(self) -> str:
        """What came of it in a word: that of the worst step; ``waiting`` if nothing could be done, ``ok`` if nothing is wrong."""
        if not self.steps:
            return "waiting" if self.absent_labels or self.waiting_for else "ok"
        outcome = min((step.outcome for step in self.steps), key=_ORDER.index)
        return "ok" if outcome in ("done", "unchanged") else outcome

    @property
    def ok(self) -> bool:
        """Whether nothing is wrong and nothing waits for a decision."""
        return self.outcome in ("ok", "waiting")

    @property
    def message(self) -> str:
        """What the person is told in a sentence or two, the worst first; empty if nothing is wrong."""
        worst = self.worst
        if worst is None:
            return ""
        others = sum(step.outcome in TOLD for step in self.steps) - 1
        more = f" And {others} more: dunechest routine list {self.name}" if others else ""
        return worst.message + more


class WaitingRoutine(NamedTuple):
    """A routine that is due, and what it waits for."""

    name: str
    why: str


class DueRuns(Value, msgspec.Struct, frozen=True):
    """What running all that was due did.

    `runs` did something or had something to tell; `waiting` are routines that are due and could do nothing, each with what it
    waits for; `busy` says that another process was at it already.
    """

    _shown: ClassVar[tuple[str, ...]] = ("runs", "busy")
    _rows: ClassVar[str] = "runs.steps"

    runs: tuple[RoutineRun, ...] = ()
    busy: bool = False
    waiting: tuple[WaitingRoutine, ...] = ()

    @property
    def ok(self) -> bool:
        """Whether nothing is wrong."""
        return all(run.ok for run in self.runs)
