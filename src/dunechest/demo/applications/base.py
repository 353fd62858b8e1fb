"""What all stand-in applications have in common."""

from __future__ import annotations

import json
import os
from abc import ABC, abstractmethod
from collections.abc import Iterator
from contextlib import AbstractContextManager, contextmanager
from pathlib import Path

import msgspec

from dunechest.machine.folders import standard_folders
from dunechest.machine.processes import lives


class RefusalError(Exception):
    """The application will not open the library; the message says why."""


class Opened(msgspec.Struct, frozen=True):
    """What an application shows of its library: what there is, what is missing, what it did."""

    library: Path
    counts: dict[str, int]
    things: tuple[str, ...]
    missing: tuple[str, ...]
    done: tuple[str, ...] = ()


class Application(ABC):
    """An application as installed for one person.

    Parameters
    ----------
    home : Path
        The person's home folder.
    """

    name: str
    lock_mark: str

    def __init__(self, home: Path) -> None:
        self.home = home

    @property
    def settings_file(self) -> Path:
        """The application's own settings."""
        return self.standard("configuration") / self.name / "settings.json"

    def standard(self, name: str) -> Path:
        """Return a standard folder of the person, as this computer has them."""
        return standard_folders(self.home)[name]

    @property
    @abstractmethod
    def usual_place(self) -> Path:
        """Where a new library would be made."""

    @property
    def library(self) -> Path:
        """The library: where the setting points, else the usual place."""
        try:
            return Path(json.loads(self.settings_file.read_text(encoding="utf-8"))["library"])
        except (OSError, ValueError, KeyError):
            return self.usual_place

    def point_to(self, library: Path) -> None:
        """Choose another library, as a person does in the settings."""
        self.settings_file.parent.mkdir(parents=True, exist_ok=True)
        self.settings_file.write_text(json.dumps({"library": str(library)}, indent=2) + "\n", encoding="utf-8")

    @contextmanager
    def open(self) -> Iterator[Opened]:
        """Open the library and hold it, with a lock mark in it.

        Raises
        ------
        RefusalError
            If it is locked by a living process, broken, or not whole.
        """
        library = self.library
        mark = library / self.lock_mark
        if mark.exists() and _lives(mark):
            raise RefusalError(f"{library} is already open.")
        with self._held(library) as opened:
            mark.write_text(f"{os.getpid()}\n", encoding="utf-8")
            try:
                yield opened
            finally:
                mark.unlink(missing_ok=True)

    @abstractmethod
    def _held(self, library: Path) -> AbstractContextManager[Opened]:
        """Check the library, keep what the application keeps open, and say what is in it."""


def _lives(mark: Path) -> bool:
    try:
        return lives(int(mark.read_text(encoding="utf-8")))
    except (ValueError, OSError):
        return False
