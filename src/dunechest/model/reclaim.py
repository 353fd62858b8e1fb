"""What deleting an original is asked for, plans, and did."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any, ClassVar, Literal

import msgspec

from dunechest.errors import UsageError
from dunechest.findings import Finding, blocking
from dunechest.library.library import Library
from dunechest.model.study import TakeOut
from dunechest.names import meant, shown
from dunechest.transfer.walk import FileEntry
from dunechest.values import PathAndWhy, Value, digest_of_values

#: Codes of the blocking findings that `--ignore` overrules.
YIELDING_CODES = frozenset({"linked-from", "referred-to", "in-memory", "mass-change"})


class ReclaimOptions(msgspec.Struct, frozen=True):
    """What a person chose.

    Parameters
    ----------
    parts : tuple of str
        Only these parts; the whole library if empty.
    trash : bool
        Move it to the system's trash instead of deleting it.
    outside_files : bool
        Delete files stored elsewhere that the library uses, too, where they are archived.
    also : tuple of str
        Paths or patterns of files that would stay (left out of the archive, licensed, placeholders) and are deleted, too.
    scratch : str or None
        A folder for a drill, if one is needed.
    ignore : tuple of str
        Codes of blocking findings that are overruled, as far as they yield.

    Raises
    ------
    UsageError
        If a code is not one of `YIELDING_CODES`: a mistyped one must not look as if it had been heeded.
    """

    parts: tuple[str, ...] = ()
    trash: bool = False
    outside_files: bool = False
    also: tuple[str, ...] = ()
    scratch: str | None = None
    ignore: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        for name in ("parts", "also", "ignore"):
            given = getattr(self, name)
            msgspec.structs.force_setattr(self, name, (given,) if isinstance(given, str) else tuple(given))
        if self.scratch is not None:
            msgspec.structs.force_setattr(self, "scratch", os.fspath(self.scratch))
        for code in self.ignore:
            if code not in YIELDING_CODES:
                known, hint = ", ".join(sorted(YIELDING_CODES)), meant(code, YIELDING_CODES)
                raise UsageError(f"--ignore {shown(code)}: that cannot be overruled.{hint} Codes: {known}.")


#: The options of whoever chose nothing.
USUAL = ReclaimOptions()


class Evidence(Value, msgspec.Struct, frozen=True):
    """A copy of a library in a connected chest, as it was looked at just now.

    Parameters
    ----------
    label, chest_id, archived_as : str
        The chest's label and id, and the library's name in it.
    folder : Path
        The chest's folder.
    edition : int
        The current edition.
    archived_at : float
        When that was archived (seconds since 1970).
    checked_at : float or None
        When every byte was last found intact since, None if it was not.
    drilled_at : float or None
        When it passed a drill just as it is, None if it did not.
    why_not : str
        Why it does not count, or empty.
    drive, place : str
        What tells its drive from others, and where that is kept.
    missing : tuple of str
        Files of the library that it does not have as they are now.
    """

    _shown: ClassVar[tuple[str, ...]] = ("label", "edition", "counts")
    _told: ClassVar[tuple[str, ...]] = (
        "label",
        "chest_id",
        "archived_as",
        "edition",
        "archived_at",
        "checked_at",
        "drilled_at",
        "counts",
        "why_not",
    )

    label: str
    chest_id: str
    archived_as: str
    folder: Path
    edition: int
    archived_at: float
    checked_at: float | None
    drilled_at: float | None
    why_not: str
    drive: str
    place: str
    missing: tuple[str, ...] = ()

    @property
    def counts(self) -> bool:
        """Whether it holds all that is to be deleted, and nothing is wrong with it as far as that was looked at."""
        return not self.why_not


class ReclaimPlan(Value, msgspec.Struct, frozen=True, eq=False):
    """What freeing the space of one original means.

    Parameters
    ----------
    name : str
        The library's name.
    what : {"original", "set-aside", "part"}
        Whether it is the library in its place, an original that a move set aside, or a part.
    path : Path
        The folder.
    library : Library
        The library that is in it.
    in_use_path : Path or None
        Where the library goes on, if it was moved.
    going : tuple of FileEntry
        The files that are deleted, by their paths in the folder.
    links, folders : tuple of str
        Symbolic links, sockets and pipes, and folders that go, too.
    kept_files : tuple of (str, str)
        What stays in the folder, and why.
    outside : tuple of FileEntry
        Files stored elsewhere that are deleted, too, by their full paths.
    copies : tuple of Evidence
        The copies on connected chests.
    first_checked_labels : tuple of str
        Labels of the chests that are checked in full first.
    first_drilled_label : str
        Label of the chest that is drilled first; empty if none is.
    taken : TakeOut or None
        What goes with parts.
    listing : str
        Name of the list of an original that was set aside.
    restore_command : str
        How to get it again: a command; empty if the library goes on elsewhere.
    disk_bytes : int
        Bytes that its files take on the disk, as far as no other name of theirs is left.
    """

    _told: ClassVar[tuple[str, ...]] = (
        "name",
        "what",
        "path",
        "in_use_path",
        "parts",
        "file_count",
        "size_bytes",
        "disk_bytes",
        "kept_files",
        "outside_paths",
        "shared_paths",
        "copies",
        "first_checked_labels",
        "first_drilled_label",
        "restore_command",
        "would_run",
        "findings",
    )
    _rows: ClassVar[str] = "kept_files"

    name: str
    what: Literal["original", "set-aside", "part"]
    path: Path
    library: Library
    options: ReclaimOptions
    in_use_path: Path | None
    going: tuple[FileEntry, ...]
    links: tuple[str, ...]
    folders: tuple[str, ...]
    kept_files: tuple[PathAndWhy, ...]
    outside: tuple[FileEntry, ...]
    copies: tuple[Evidence, ...]
    first_checked_labels: tuple[str, ...]
    first_drilled_label: str
    taken: TakeOut | None
    listing: str
    restore_command: str
    disk_bytes: int
    findings: tuple[Finding, ...] = ()
    read_count: int = 0

    def decisions(self) -> dict[str, Any]:
        """Return all that the plan decides, as JSON values: two plans with the same do the same."""
        return {
            "what": self.what,
            "place": str(self.path),
            "files": digest_of_values([[f.path, f.size, f.mtime_ns] for f in self.going]),
            "links": list(self.links),
            "stays": [list(item) for item in self.kept_files],
            "outside": [[f.path, f.size, f.mtime_ns] for f in self.outside],
            "copies": [[copy.chest_id, copy.archived_as, copy.edition, copy.counts] for copy in self.copies],
            "first": [list(self.first_checked_labels), self.first_drilled_label],
            "trash": self.options.trash,
            "blocked_by": sorted(f"{f.code}: {f.message}" for f in self.blocked),
        }

    def __eq__(self, other: object) -> bool:
        return isinstance(other, ReclaimPlan) and self.decisions() == other.decisions()

    def __hash__(self) -> int:
        return hash((self.what, str(self.path)))

    def __repr__(self) -> str:
        return f"<ReclaimPlan {self.name} in {self.path}: {len(self.going)} files>"

    @property
    def blocked(self) -> tuple[Finding, ...]:
        """The findings that block it and were not overruled."""
        return blocking(self.findings, self.options.ignore)

    @property
    def would_run(self) -> bool:
        """Whether nothing blocks it; checks that come first may still fail."""
        return not self.blocked

    @property
    def proven(self) -> bool:
        """Whether nothing has to be checked first."""
        return not self.first_checked_labels and not self.first_drilled_label

    @property
    def file_count(self) -> int:
        """Number of files that are deleted."""
        return len(self.going) + len(self.outside)

    @property
    def size_bytes(self) -> int:
        """Bytes of the files that are deleted."""
        return sum(file.size for file in (*self.going, *self.outside))

    @property
    def whole(self) -> bool:
        """Whether nothing of the folder stays."""
        return not self.kept_files and self.taken is None

    @property
    def parts(self) -> tuple[str, ...]:
        """Titles of the parts; empty for the whole library."""
        return tuple(part.title for part in self.taken.parts) if self.taken is not None else ()

    @property
    def outside_paths(self) -> tuple[str, ...]:
        """Files stored elsewhere that are deleted, too."""
        return tuple(file.path for file in self.outside)

    @property
    def shared_paths(self) -> tuple[str, ...]:
        """Files of the parts that stay, because others use them."""
        return self.taken.shared if self.taken is not None else ()


class ReclaimResult(Value, msgspec.Struct, frozen=True):
    """The summary of a deletion.

    `deleted_count` and `deleted_bytes` were deleted; `freed_bytes` is by how many bytes the free space of the disk grew,
    measured before and after, `disk_bytes` what the deleted files took there. `why_less` says why that made less room, or is
    empty. `kept_files` is what stays, and why; `kept_path` where that is, None if nothing does. `restore_command` says how to
    get it again.
    """

    _shown: ClassVar[tuple[str, ...]] = ("name", "deleted_count", "freed_bytes")
    _told: ClassVar[tuple[str, ...]] = (
        "name",
        "what",
        "path",
        "in_use_path",
        "parts",
        "deleted_count",
        "deleted_bytes",
        "freed_bytes",
        "disk_bytes",
        "why_less",
        "to_trash",
        "kept_files",
        "kept_path",
        "outside_paths",
        "checked_labels",
        "drilled_label",
        "restore_command",
        "findings",
    )
    _rows: ClassVar[str] = "kept_files"

    name: str
    what: str
    path: Path
    in_use_path: Path | None
    parts: tuple[str, ...]
    deleted_count: int
    deleted_bytes: int
    freed_bytes: int
    disk_bytes: int
    why_less: str
    to_trash: bool
    kept_files: tuple[PathAndWhy, ...]
    kept_path: Path | None
    outside_paths: tuple[str, ...]
    checked_labels: tuple[str, ...]
    drilled_label: str
    restore_command: str
    findings: tuple[Finding, ...]
    seconds: float
