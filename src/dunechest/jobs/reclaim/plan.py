"""What freeing the space of an original means, as plain values: nothing is decided here, and nothing done."""

from __future__ import annotations

from pathlib import Path
from typing import Any, ClassVar, Literal

import msgspec

from dunechest.findings import Finding, blocking
from dunechest.jobs.reclaim.options import ReclaimOptions
from dunechest.jobs.study.take_out import TakeOut
from dunechest.library.library import Library
from dunechest.transfer.walk import FileEntry
from dunechest.values import Value, digest_of_values


class Evidence(Value, msgspec.Struct, frozen=True):
    """A copy of a library in a connected chest, as it was looked at just now.

    Parameters
    ----------
    label, chest, bag : str
        The chest's label and id, and the library's name in it.
    folder : Path
        The chest's folder.
    edition : int
        The current edition.
    archived : float
        When that was archived (seconds since 1970).
    checked : float or None
        When every byte was last found intact since, None if it was not.
    drilled : float or None
        When it passed a drill just as it is, None if it did not.
    why_not : str
        Why it does not count, or empty.
    drive, place : str
        What tells its drive from others, and where that is kept.
    missing : tuple of str
        Files of the library that it does not have as they are now.
    """

    _shown: ClassVar[tuple[str, ...]] = ("label", "edition", "counts")
    _document: ClassVar[str] = "reclaim.CopyEvidence"

    label: str
    chest: str
    bag: str
    folder: Path
    edition: int
    archived: float
    checked: float | None
    drilled: float | None
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
    place : Path
        The folder.
    library : Library
        The library that is in it.
    live : Path or None
        Where the library goes on, if it was moved.
    going : tuple of FileEntry
        The files that are deleted, by their paths in the folder.
    links, folders : tuple of str
        Symbolic links, sockets and pipes, and folders that go, too.
    staying : tuple of (str, str)
        What stays in the folder, and why.
    outside : tuple of FileEntry
        Files stored elsewhere that are deleted, too, by their full paths.
    copies : tuple of Evidence
        The copies on connected chests.
    to_check : tuple of str
        Labels of the chests that are checked in full first.
    to_drill : str
        Label of the chest that is drilled first; empty if none is.
    taken : TakeOut or None
        What goes with parts.
    listing : str
        Name of the list of an original that was set aside.
    how : str
        How to get it again: a command; empty if the library goes on elsewhere.
    blocks : int
        Bytes that its files take on the disk, as far as no other name of theirs is left.
    """

    _document: ClassVar[str] = "reclaim.PlannedReclaim"

    name: str
    what: Literal["original", "set-aside", "part"]
    place: Path
    library: Library
    options: ReclaimOptions
    live: Path | None
    going: tuple[FileEntry, ...]
    links: tuple[str, ...]
    folders: tuple[str, ...]
    staying: tuple[tuple[str, str], ...]
    outside: tuple[FileEntry, ...]
    copies: tuple[Evidence, ...]
    to_check: tuple[str, ...]
    to_drill: str
    taken: TakeOut | None
    listing: str
    how: str
    blocks: int
    findings: tuple[Finding, ...] = ()
    read_count: int = 0

    def decisions(self) -> dict[str, Any]:
        """Return all that the plan decides, as JSON values: two plans with the same do the same."""
        return {
            "what": self.what,
            "place": str(self.place),
            "files": digest_of_values([[f.path, f.size, f.mtime_ns] for f in self.going]),
            "links": list(self.links),
            "stays": [list(item) for item in self.staying],
            "outside": [[f.path, f.size, f.mtime_ns] for f in self.outside],
            "copies": [[copy.chest, copy.bag, copy.edition, copy.counts] for copy in self.copies],
            "first": [list(self.to_check), self.to_drill],
            "trash": self.options.trash,
            "blocked_by": sorted(f"{f.code}: {f.message}" for f in self.blocked),
        }

    def __eq__(self, other: object) -> bool:
        return isinstance(other, ReclaimPlan) and self.decisions() == other.decisions()

    def __hash__(self) -> int:
        return hash((self.what, str(self.place)))

    def __repr__(self) -> str:
        return f"<ReclaimPlan {self.name} in {self.place}: {len(self.going)} files>"

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
        return not self.to_check and not self.to_drill

    @property
    def file_count(self) -> int:
        """Number of files that are deleted."""
        return len(self.going) + len(self.outside)

    @property
    def bytes(self) -> int:
        """Bytes of the files that are deleted."""
        return sum(file.size for file in (*self.going, *self.outside))

    @property
    def whole(self) -> bool:
        """Whether nothing of the folder stays."""
        return not self.staying and self.taken is None

    @property
    def part_titles(self) -> tuple[str, ...]:
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
