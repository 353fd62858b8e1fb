"""A routine: what runs by itself, to which chests, when, what then, within which limits, and whom it tells. A plain value."""

from __future__ import annotations

from typing import ClassVar

import msgspec

from dunechest.errors import UsageError
from dunechest.jobs.editions.retention_rule import parse_rule
from dunechest.jobs.routine.when import parse_when, words_of
from dunechest.machine.system_command import command_line
from dunechest.names import is_slug, shown
from dunechest.values import Value

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
        When it is due, each as `dunechest.jobs.routine.when` reads it.
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
