"""What a person chose for a restore, as one value."""

from __future__ import annotations

import datetime
import os
from pathlib import Path
from typing import Any, Literal, get_args

import msgspec
from msgspec.structs import asdict

from dunechest.errors import UsageError
from dunechest.machine.folders import own_home

IfExists = Literal["refuse", "set-aside", "merge"]
OnConflict = Literal["keep-both", "keep-mine", "keep-archived", "keep-newer"]


class RestoreOptions(msgspec.Struct, frozen=True):
    """What a person chose for a restore.

    Parameters
    ----------
    home : path, optional
        Whose home it goes into; one's own by default.
    into : path, optional
        The folder it becomes, exactly.
    edition : int, optional
        Which edition; the current one by default.
    parts : tuple of str
        Only these parts; everything if empty.
    files : tuple of str
        Only these files or folders, by path or pattern; everything if empty. They are added to what is there.
    if_exists : {"refuse", "set-aside", "merge"}
        What to do if something is there already.
    on_conflict : {"keep-both", "keep-mine", "keep-archived", "keep-newer"}
        When merging, which of two different files of the same name to keep.
    outside_links : bool, optional
        Whether links out of the library are made; by default if this computer made the bag.
    repoint : bool
        Whether references are updated.
    settings : bool, optional
        Whether the application's setting is written; by default if it names nothing that exists.
    day : str
        The day that names what is set aside; today by default.
    places : tuple of pairs
        Folders of another computer and what stands for them here, beside those that are remembered.
    apart : bool
        Whether nothing that is on this computer already stands for a file of the archive: a drill has to bring back all of
        it.

    Raises
    ------
    UsageError
        If two of them exclude each other.
    """

    home: str | os.PathLike[str] | None = None
    into: str | os.PathLike[str] | None = None
    edition: int | None = None
    parts: tuple[str, ...] = ()
    if_exists: IfExists = "refuse"
    on_conflict: OnConflict = "keep-both"
    outside_links: bool | None = None
    repoint: bool = True
    settings: bool | None = None
    day: str = ""
    places: tuple[tuple[str, str], ...] = ()
    files: tuple[str, ...] = ()
    apart: bool = False

    def __post_init__(self) -> None:
        for name in ("home", "into"):
            given = getattr(self, name)
            msgspec.structs.force_setattr(self, name, os.fspath(given) if given is not None else None)
        msgspec.structs.force_setattr(
            self, "parts", (self.parts,) if isinstance(self.parts, str) else tuple(self.parts)
        )
        msgspec.structs.force_setattr(
            self, "files", (self.files,) if isinstance(self.files, str) else tuple(self.files)
        )
        pairs = tuple((str(old), str(new)) for old, new in self.places)
        msgspec.structs.force_setattr(self, "places", pairs)
        msgspec.structs.force_setattr(self, "day", self.day or today())
        if self.home is not None and self.into is not None:
            raise UsageError("--home and --into exclude each other: name a home, or exactly one folder.")
        if self.if_exists not in get_args(IfExists):
            raise UsageError(f"{self.if_exists!r} is not one of {', '.join(get_args(IfExists))}.")
        if self.on_conflict not in get_args(OnConflict):
            raise UsageError(f"{self.on_conflict!r} is not one of {', '.join(get_args(OnConflict))}.")
        if self.files and (self.parts or self.if_exists == "set-aside"):
            raise UsageError(
                "--file adds single files to what is there: it does not go with --part or --if-exists set-aside."
            )
        if self.on_conflict != "keep-both" and self.mode != "merge":
            raise UsageError("--on-conflict only applies when merging: add --if-exists merge.")

    @property
    def mode(self) -> IfExists:
        """What becomes of what is there: single files are always added to it."""
        return "merge" if self.files else self.if_exists

    @property
    def home_folder(self) -> Path:
        """The home it goes into."""
        return Path(os.path.abspath(self.home)) if self.home is not None else own_home()

    def to_dict(self) -> dict[str, Any]:
        """Return the options as JSON values."""
        return asdict(self)


def today() -> str:
    """Return the present day, as names of what is set aside have it."""
    return datetime.datetime.now().astimezone().date().isoformat()
