"""What runs by itself: what it is asked for, plans, and did."""

from __future__ import annotations

from typing import ClassVar, Literal, NamedTuple

import msgspec

from dunechest.errors import UsageError
from dunechest.machine.system_command import command_line
from dunechest.model.retention_rule import parse_rule
from dunechest.model.when import parse_when, words_of
from dunechest.names import is_slug, shown
from dunechest.values import Value


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


#: Days that a drive may be away before that is told: for what has a time, and for what waits for the drive anyway.
PATIENCE, PATIENCE_PLUGGED = 3.0, 30.0


class RoutineLibrary(Value, msgspec.Struct, frozen=True):
    """A library of a routine: its name, and the folder or file that is meant; a name alone might come to mean another."""

    _shown: ClassVar[tuple[str, ...]] = ("name", "path")

    name: str
    path: str


class RoutineChest(Value, msgspec.Struct, frozen=True):
    """A chest of a routine: its label, and the id that is meant."""

    _shown: ClassVar[tuple[str, ...]] = ("label",)

    label: str
    id: str


class Routine(Value, msgspec.Struct, frozen=True):
    """What runs by itself.

    Parameters
    ----------
    name : str
        Small letters, digits and hyphens.
    named_libraries : tuple of RoutineLibrary
        Those that were named.
    kinds : tuple of str
        All libraries of these kinds, besides.
    all_libraries_in_home : bool
        All libraries in this person's home, and those that were moved from there.
    chests : tuple of RoutineChest
        Where they are archived to.
    copy_chests : tuple of RoutineChest
        Chests that the first of `chests` that is connected is copied to afterwards.
    times : tuple of str
        When it is due, each as `dunechest.model.when` reads it.
    verify_minutes : float
        So long each chest is verified afterwards, least recently checked first; 0 for not at all.
    drills_monthly : bool
        Whether one library of each chest is drilled every month.
    retention_rule : str
        The rule by which editions of the libraries are dropped; none are if it is empty.
    only_on_mains : bool
        Whether it waits for mains power.
    limit : float, optional
        Most megabytes (10^6 bytes) that are read in a second.
    patience : float
        Days that it may be overdue before that is told.
    notifies : bool
        Whether it is told by a notification on the desktop.
    tell_command : str
        A command that gets the JSON document of a run that has something to tell on its standard input.
    scheduler : str
        Name of the scheduler that starts it; ``none`` if a person sees to that.
    added_at : float
        When it was added (seconds since 1970).

    Raises
    ------
    UsageError
        If one of these cannot be meant.
    """

    _shown: ClassVar[tuple[str, ...]] = ("name", "times")
    _told: ClassVar[tuple[str, ...]] = (
        "name",
        "named_libraries",
        "kinds",
        "all_libraries_in_home",
        "chests",
        "copy_chests",
        "times",
        "verify_seconds",
        "drills_monthly",
        "retention_rule",
        "only_on_mains",
        "limit_bytes",
        "patience_seconds",
        "notifies",
        "tell_command",
        "scheduler",
        "added_at",
    )

    name: str
    chests: tuple[RoutineChest, ...]
    times: tuple[str, ...]
    named_libraries: tuple[RoutineLibrary, ...] = ()
    kinds: tuple[str, ...] = ()
    all_libraries_in_home: bool = False
    copy_chests: tuple[RoutineChest, ...] = ()
    verify_minutes: float = 0.0
    drills_monthly: bool = False
    retention_rule: str = ""
    only_on_mains: bool = False
    limit: float | None = None
    patience: float = PATIENCE
    notifies: bool = True
    tell_command: str = ""
    scheduler: str = "none"
    added_at: float = 0.0

    def __post_init__(self) -> None:
        if not is_slug(self.name):
            raise UsageError(
                f"{shown(self.name)!r} cannot be a routine's name: use small letters, digits and hyphens."
            )
        if not self.chests:
            raise UsageError("A routine needs at least one chest.")
        if not self.times:
            raise UsageError("Say when it is due, such as: every day at 22:00")
        for text in self.times:
            parse_when(text)
        if not self.archives and not (self.copy_chests or self.verify_minutes or self.drills_monthly):
            raise UsageError("A routine needs libraries to archive, or something to do with what is in a chest.")
        if self.retention_rule:
            parse_rule(self.retention_rule)
            if not self.archives:
                raise UsageError(
                    "Editions are dropped of the libraries that a routine archives, and it archives none."
                )
        ids = [chest.id for chest in (*self.chests, *self.copy_chests)]
        if len(set(ids)) < len(ids):
            raise UsageError("The same chest is named twice.")
        _number("the minutes of verifying", self.verify_minutes, 0, 24 * 60)
        _number("the patience in days", self.patience, 0.04, 3660)
        if self.limit is not None:
            _number("the limit in MB/s", self.limit, 0.1, 100_000)
        try:
            words = command_line(self.tell_command)
        except ValueError as error:
            raise UsageError(
                f"The command that is told, {shown(self.tell_command)!r}, is not understood: {error}."
            ) from error
        if self.tell_command and not (words.strip() if isinstance(words, str) else words):
            raise UsageError("The command that is told is empty.")

    @property
    def verify_seconds(self) -> float:
        """How long each chest is verified, in seconds."""
        return self.verify_minutes * 60

    @property
    def patience_seconds(self) -> float:
        """How long it may be overdue before that is told, in seconds."""
        return self.patience * 86_400

    @property
    def limit_bytes(self) -> int | None:
        """Most bytes that are read in a second."""
        return round(self.limit * 1e6) if self.limit is not None else None

    @property
    def archives(self) -> bool:
        """Whether it archives libraries."""
        return bool(self.named_libraries or self.kinds or self.all_libraries_in_home)

    @property
    def when_plugged_in(self) -> bool:
        """Whether it is due as soon as a chest's drive is there."""
        return any(parse_when(text) is None for text in self.times)

    @property
    def words(self) -> str:
        """When it is due, in words."""
        return "; ".join(words_of(parse_when(text)) for text in self.times)


def _number(what: str, value: float, least: float, most: float) -> None:
    if not least <= value <= most:
        raise UsageError(f"{what[0].upper()}{what[1:]} must be from {least:g} to {most:g}, not {value:g}.")


class ChestDue(msgspec.Struct, frozen=True):
    """A chest that a routine is due for.

    Parameters
    ----------
    chest : RoutineChest
        The chest.
    moment : float
        The time that is settled by serving it now.
    since : float
        The first time that is not settled.
    folder : str
        Where it is connected; empty if it is not.
    """

    chest: RoutineChest
    moment: float
    since: float
    folder: str = ""


class RoutinePlan(Value, msgspec.Struct, frozen=True):
    """What is to be done of a routine now.

    Parameters
    ----------
    routine : Routine
        The routine.
    serve : tuple of ChestDue
        Chests of `Routine.chests` that are due and connected.
    copy_to : tuple of ChestDue
        Chests of `Routine.copy_to` that are due and connected, if one to copy from is, too.
    source : str
        The folder of the chest that is copied from; empty if there is none.
    absent : tuple of ChestDue
        Chests that are due and not connected.
    overdue : tuple of ChestDue
        Those of `absent`, and those that wait, whose patience is over and that were not told lately.
    wait : str
        Why nothing is done now though something is due; empty if nothing keeps it.
    again : bool
        Whether a run before was interrupted.
    """

    _shown: ClassVar[tuple[str, ...]] = ("routine", "serve", "absent")

    routine: Routine
    serve: tuple[ChestDue, ...] = ()
    copy_to: tuple[ChestDue, ...] = ()
    source: str = ""
    absent: tuple[ChestDue, ...] = ()
    overdue: tuple[ChestDue, ...] = ()
    wait: str = ""
    again: bool = False

    @property
    def nothing(self) -> bool:
        """Whether there is nothing to do and nothing to tell."""
        return not (self.serve or self.copy_to or self.overdue)


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


class InstalledFile(NamedTuple):
    """What is written for a routine; `path` is empty for what the scheduler is given otherwise."""

    path: str
    text: str


class RoutineInstallation(Value, msgspec.Struct, frozen=True):
    """A routine and what is, or would be, installed for it.

    Parameters
    ----------
    routine : Routine
        The routine.
    command_words : tuple of str
        What the scheduler starts.
    files : tuple of (str, str)
        The place of each file and its text; an empty place stands for what the scheduler is given otherwise.
    installed : bool
        Whether the scheduler has it, as it says itself.
    scheduler_says : str
        That, in words.
    library_paths : tuple of str
        Places of the libraries that it would archive now.
    """

    _shown: ClassVar[tuple[str, ...]] = ("routine", "installed")
    _rows: ClassVar[str] = "files"

    routine: Routine
    command_words: tuple[str, ...]
    files: tuple[InstalledFile, ...]
    installed: bool
    scheduler_says: str
    library_paths: tuple[str, ...] = ()


class RoutineState(Value, msgspec.Struct, frozen=True):
    """How a routine does.

    Parameters
    ----------
    name : str
        Its name.
    routine : Routine or None
        The routine; None if its file is not understood.
    why : str
        Why it is not; empty if it is.
    file : str
        Its file.
    last_at : float or None
        When it last ran.
    last_outcome : str
        What came of that; ``never run`` if it never did.
    message : str
        What was wrong then, or what is wrong with it now; empty if nothing is wrong.
    command : str
        The command that sets that right.
    last_lines : tuple of str
        What the last run did.
    next_at : float or None
        Its next time; None if it only waits for a drive.
    waiting_labels : tuple of str
        Labels of the chests that it is due for, and that are not connected.
    overdue_labels : tuple of str
        Those among them whose patience is over.
    running_since_at : float or None
        When the run at hand was begun; of one that was interrupted, too.
    installed : bool
        Whether the scheduler has it.
    scheduler_says : str
        That in words.
    """

    _shown: ClassVar[tuple[str, ...]] = ("name", "last_outcome", "overdue_labels")
    _told: ClassVar[tuple[str, ...]] = (
        "name",
        "ok",
        "routine",
        "file",
        "last_outcome",
        "last_at",
        "last_lines",
        "message",
        "command",
        "next_at",
        "waiting_labels",
        "overdue_labels",
        "running_since_at",
        "installed",
        "scheduler_says",
    )

    name: str
    routine: Routine | None
    why: str = ""
    file: str = ""
    last_at: float | None = None
    last_outcome: str = "never run"
    message: str = ""
    command: str = ""
    last_lines: tuple[str, ...] = ()
    next_at: float | None = None
    waiting_labels: tuple[str, ...] = ()
    overdue_labels: tuple[str, ...] = ()
    running_since_at: float | None = None
    installed: bool = False
    scheduler_says: str = ""

    @property
    def ok(self) -> bool:
        """Whether nothing about it needs a person."""
        return self.routine is not None and self.installed and not self.message and not self.overdue_labels
