"""What a scheduler is asked for, and the functions that every scheduler has."""

from __future__ import annotations

from pathlib import Path
from typing import ClassVar, Protocol

import msgspec

from dunechest.errors import UsageError
from dunechest.names import shown
from dunechest.transfer import safe

DAYS = ("Monday", "Tuesday", "Wednesday", "Thursday", "Friday", "Saturday", "Sunday")


class Moment(msgspec.Struct, frozen=True):
    """A time of the clock on the wall that comes again and again.

    Parameters
    ----------
    minute : int
        0 to 59.
    hour : int or None
        0 to 23; every hour if None.
    weekdays : tuple of int
        0 (Monday) to 6; every day if empty.
    day : int or None
        Day of the month, 1 to 28; every day if None.
    """

    minute: int = 0
    hour: int | None = None
    weekdays: tuple[int, ...] = ()
    day: int | None = None


class Entry(msgspec.Struct, frozen=True):
    """What a scheduler is asked for: a command at some moments, every hour, and when a drive appears.

    Parameters
    ----------
    name : str
        Small letters, digits and hyphens.
    command : tuple of str
        The program, by its whole path, and its words.
    moments : tuple of Moment
        When it is due; it is started every hour besides, for what was missed.
    mounts : tuple of Path
        Folders in which drives appear, for the schedulers that watch folders.
    """

    name: str
    command: tuple[str, ...]
    moments: tuple[Moment, ...] = ()
    mounts: tuple[Path, ...] = ()

    def __post_init__(self) -> None:
        for word in (*self.command, *map(str, self.mounts)):
            if any(ord(letter) < 32 or letter == "\x7f" or "\ud800" <= letter <= "\udfff" for letter in word):
                raise UsageError(
                    f"{shown(word)} cannot be given to the system's scheduler: it has characters that are no text. "
                    "Nothing was installed."
                )


class File(msgspec.Struct, frozen=True):
    """A file that a scheduler reads; or, with ``place`` None, the lines that one of its commands is given."""

    place: Path | None
    text: str


class Taken(msgspec.Struct, frozen=True):
    """Whether a scheduler has an entry, as it says itself, and that in a sentence."""

    taken: bool
    sentence: str


class Scheduler(Protocol):
    """A scheduler. Nothing but `install` and `remove` changes anything."""

    #: What it is called.
    name: ClassVar[str]

    def here(self) -> bool:
        """Whether it runs on this computer and takes orders of this person."""

    def files(self, entry: Entry) -> tuple[File, ...]:
        """Return what would be installed for an entry."""

    def install(self, entry: Entry) -> None:
        """Install an entry; one of that name is replaced.

        Raises
        ------
        RefusedError
            If the scheduler does not take it. Nothing of it is left then.
        """

    def remove(self, name: str) -> None:
        """Remove an entry; nothing happens if there is none.

        Raises
        ------
        RefusedError
            If the scheduler refuses.
        """

    def taken(self, name: str) -> Taken:
        """Ask the scheduler whether it has an entry."""

    def same(self, entry: Entry) -> bool:
        """Whether what is installed is what would be installed now; True where that cannot be told."""


def same_files(files: tuple[File, ...]) -> bool:
    """Whether files are in their places with just their text."""
    try:
        return all(
            safe.read_bounded(file.place, 1 << 20).decode() == file.text for file in files if file.place is not None
        )
    except (OSError, ValueError):
        return False
