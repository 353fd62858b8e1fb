"""What moving a library is asked for, plans, and did."""

from __future__ import annotations

from pathlib import Path
from typing import Any, ClassVar, Literal

import msgspec

from dunechest.findings import Finding, blocking
from dunechest.library.kinds.schema import Kind
from dunechest.library.library import Library
from dunechest.library.still_named import NO_OLD_PLACE, OldPlace
from dunechest.model.homes import Home
from dunechest.model.parts import NeedsRoom
from dunechest.model.restore import ByHand, OnConflict, ReferencePlan, Repoint, SettingChange, Target, today
from dunechest.model.study import Contents, Room, TakeOut
from dunechest.transfer.walk import FileEntry, FolderEntry, LinkEntry
from dunechest.values import MovedPath, PathAndWhy, RenamedPath, Value, digest_of_values

#: How an application finds its library after a move.
Way = Literal["setting", "link"]


class RehomeOptions(msgspec.Struct, frozen=True):
    """What a person chose for a move to a drive.

    Parameters
    ----------
    name : str, optional
        Name of the library's folder on the drive; the one it has by default.
    link : bool
        Leave a link in the old place even if the application has a setting.
    outside_files : bool
        Move files stored elsewhere that the library uses to the drive, too.
    parts : tuple of str
        Only these parts; the whole library if empty.
    on_conflict : {"keep-both", "keep-mine", "keep-archived", "keep-newer"}
        When rejoining, which of two different files of the same name to keep; ``mine`` is the one on the drive.
    ignore : tuple of str
        Codes of blocking findings that are overruled.
    day : str
        The day that names what is set aside; today by default.
    """

    name: str | None = None
    link: bool = False
    outside_files: bool = False
    parts: tuple[str, ...] = ()
    on_conflict: OnConflict = "keep-both"
    ignore: tuple[str, ...] = ()
    day: str = ""

    def __post_init__(self) -> None:
        msgspec.structs.force_setattr(
            self, "parts", (self.parts,) if isinstance(self.parts, str) else tuple(self.parts)
        )
        msgspec.structs.force_setattr(
            self, "ignore", (self.ignore,) if isinstance(self.ignore, str) else tuple(self.ignore)
        )
        msgspec.structs.force_setattr(self, "day", self.day or today())


#: The options of whoever chose nothing.
USUAL = RehomeOptions()


class OutsideMove(msgspec.Struct, frozen=True):
    """A file stored elsewhere that moves along: as it was found, and its place on the drive."""

    entry: FileEntry
    place: Path


class RehomePlan(NeedsRoom, Value, msgspec.Struct, frozen=True, eq=False):
    """What moving one library means.

    Parameters
    ----------
    library : Library
        The library, where it is now.
    kind : Kind
        Its kind, with references of the open formats that are in it.
    new_path : Path
        The folder that it becomes.
    old_path : Path
        Where its application found it at first, and where a link is or was.
    back : bool
        Whether it goes back there.
    way : {"setting", "link"}
        How its application finds it afterwards.
    drive : str
        What the drive is called.
    files, folders, links : tuple
        What moves, as found; links with the targets that they get.
    unmoved_files : tuple of (str, str)
        What stays behind, and why: sockets, lock marks.
    hard_links : tuple
        Names that are one file.
    outside : tuple of OutsideMove
        Files stored elsewhere that move along.
    reference_plan : ReferencePlan
        What is updated in it.
    settings : tuple of SettingChange
        What is updated of the application.
    link_before : str
        Where the link in the old place leads now; empty if there is none.
    set_aside_path : Path
        The name that the original gets.
    room : Room
        Bytes needed and free where it goes.
    place : Target
        The filesystem that it goes to.
    id : str
        What tells this move from others.
    below : str
        The new place below the drive's mount point.
    """

    _told: ClassVar[tuple[str, ...]] = (
        "name",
        "path",
        "new_path",
        "old_path",
        "drive",
        "way",
        "back",
        "set_aside_path",
        "file_count",
        "size_bytes",
        "needed_bytes",
        "free_bytes",
        "references",
        "settings",
        "unmoved_files",
        "outside_files",
        "would_run",
        "findings",
    )
    _rows: ClassVar[str] = "unmoved_files"

    library: Library
    kind: Kind
    options: RehomeOptions
    new_path: Path
    old_path: Path
    back: bool
    way: Way
    drive: str
    files: tuple[FileEntry, ...]
    folders: tuple[FolderEntry, ...]
    links: tuple[LinkEntry, ...]
    unmoved_files: tuple[PathAndWhy, ...]
    hard_links: tuple[tuple[str, ...], ...]
    outside: tuple[OutsideMove, ...]
    reference_plan: ReferencePlan
    settings: tuple[SettingChange, ...]
    link_before: str
    set_aside_path: Path
    room: Room
    place: Target
    id: str
    below: str
    identity: str = ""
    findings: tuple[Finding, ...] = ()
    old_place: OldPlace = NO_OLD_PLACE

    @property
    def references(self) -> tuple[Repoint, ...]:
        """References that are updated."""
        return self.reference_plan.updates

    def decisions(self) -> dict[str, Any]:
        """Return all that the plan decides, as JSON values: two plans with the same do the same."""
        return {
            "library": str(self.path),
            "to": str(self.new_path),
            "old": str(self.old_path),
            "back": self.back,
            "way": self.way,
            "set aside": str(self.set_aside_path),
            "files": digest_of_values([[f.path, f.size, f.mtime_ns] for f in self.files]),
            "folders": [f.path for f in self.folders],
            "links": [[k.path, k.target] for k in self.links],
            "outside files": [[o.entry.path, str(o.place)] for o in self.outside],
            "references": digest_of_values([[r.file, r.spot, r.old, r.new] for r in self.reference_plan.updates]),
            "settings": [[str(s.file), s.key, s.old_text, s.new] for s in self.settings],
            "blocked_by": sorted(f"{f.code}: {f.message}" for f in self.blocked),
        }

    def __eq__(self, other: object) -> bool:
        return isinstance(other, RehomePlan) and self.decisions() == other.decisions()

    def __hash__(self) -> int:
        return hash((str(self.path), str(self.new_path)))

    def __repr__(self) -> str:
        return f"<RehomePlan {self.library.name} to {self.new_path}: {len(self.files)} files>"

    @property
    def path(self) -> Path:
        """Where the library is now."""
        return self.library.path

    @property
    def name(self) -> str:
        """The library's name."""
        return self.library.name

    @property
    def blocked(self) -> tuple[Finding, ...]:
        """The findings that block it and were not overruled."""
        return blocking(self.findings, self.options.ignore)

    @property
    def would_run(self) -> bool:
        """Whether nothing blocks it."""
        return not self.blocked

    @property
    def file_count(self) -> int:
        """Number of files that move, those from outside the library included."""
        return len(self.files) + len(self.outside)

    @property
    def size_bytes(self) -> int:
        """Bytes of the files that move."""
        return sum(file.size for file in self.files) + sum(item.entry.size for item in self.outside)

    @property
    def outside_files(self) -> tuple[MovedPath, ...]:
        """Old and new place of each file from outside the library that moves along."""
        return tuple(MovedPath(item.entry.path, item.place) for item in self.outside)


class RejoinPlan(Value, msgspec.Struct, frozen=True, eq=False):
    """What rejoining a moved library means.

    Parameters
    ----------
    home : Home
        The moved library, where it is now, and the second one that was made meanwhile.
    settings : tuple of SettingChange
        What is updated of the application.
    link_before, link_after : str
        Where the link in the old place leads, and where it will; empty if there is none.
    set_aside_path : Path or None
        The name that the second library gets.
    """

    _told: ClassVar[tuple[str, ...]] = (
        "name",
        "path",
        "old_path",
        "second_path",
        "second_file_count",
        "set_aside_path",
        "settings",
        "findings",
    )

    home: Home
    options: RehomeOptions
    settings: tuple[SettingChange, ...] = ()
    link_before: str = ""
    link_after: str = ""
    set_aside_path: Path | None = None
    findings: tuple[Finding, ...] = ()

    @property
    def path(self) -> Path:
        """Where the library is."""
        return self.home.path

    @property
    def old_path(self) -> Path:
        """Where it used to be."""
        return self.home.old_path

    def decisions(self) -> dict[str, Any]:
        """Return all that the plan decides, as JSON values: two plans with the same do the same."""
        second = self.home.second
        return {
            "library": str(self.home.path),
            "second": str(second.path) if second is not None else None,
            "settings": [[str(s.file), s.key, s.old_text, s.new] for s in self.settings],
            "link": [self.link_before, self.link_after],
            "set aside": str(self.set_aside_path) if self.set_aside_path is not None else None,
        }

    def __eq__(self, other: object) -> bool:
        return isinstance(other, RejoinPlan) and self.decisions() == other.decisions()

    def __hash__(self) -> int:
        return hash(str(self.home.path))

    def __repr__(self) -> str:
        return f"<RejoinPlan {self.home.name} in {self.home.path}>"

    @property
    def name(self) -> str:
        """The library's name."""
        return self.home.name

    @property
    def second_path(self) -> Path | None:
        """Where the second library is."""
        return self.home.second.path if self.home.second is not None else None

    @property
    def second_file_count(self) -> int:
        """Number of files of the second library."""
        return self.home.second.file_count if self.home.second is not None else 0

    @property
    def blocked(self) -> tuple[Finding, ...]:
        """The findings that block it."""
        return blocking(self.findings, self.options.ignore)

    @property
    def nothing(self) -> bool:
        """Whether nothing has to be done."""
        return self.home.second is None and not self.settings and self.link_before == self.link_after


class PartMovePlan(NeedsRoom, Value, msgspec.Struct, frozen=True, eq=False):
    """What moving parts of a library means: a library of their own on the drive, and the rest goes on without them.

    Parameters
    ----------
    contents : Contents
        The library.
    taken : TakeOut
        What goes with the parts, and what of theirs stays because others use it.
    new_path : Path
        The folder of their own library; if there is one of the same kind already, they are merged into it.
    merge : bool
        Whether there is.
    set_aside_path : Path
        The folder that what goes is set aside in.
    drive : str
        What the drive is called.
    """

    _told: ClassVar[tuple[str, ...]] = (
        "name",
        "path",
        "new_path",
        "drive",
        "parts",
        "merge",
        "set_aside_path",
        "file_count",
        "size_bytes",
        "needed_bytes",
        "free_bytes",
        "edited_paths",
        "shared_paths",
        "would_run",
        "findings",
    )

    contents: Contents
    options: RehomeOptions
    taken: TakeOut
    new_path: Path
    merge: bool
    set_aside_path: Path
    drive: str
    room: Room
    id: str
    findings: tuple[Finding, ...] = ()

    @property
    def edited_paths(self) -> tuple[str, ...]:
        """Files from which its entries are taken out."""
        return tuple(self.taken.edits)

    def decisions(self) -> dict[str, Any]:
        """Return all that the plan decides, as JSON values: two plans with the same do the same."""
        return {
            "library": str(self.library.path),
            "parts": [part.name for part in self.taken.parts],
            "to": str(self.new_path),
            "merge": self.merge,
            "files": digest_of_values([[f.path, f.size, f.mtime_ns] for f in self.taken.files]),
            "edits": list(self.taken.edits),
            "set aside": str(self.set_aside_path),
            "blocked_by": sorted(f"{f.code}: {f.message}" for f in self.blocked),
        }

    def __eq__(self, other: object) -> bool:
        return isinstance(other, PartMovePlan) and self.decisions() == other.decisions()

    def __hash__(self) -> int:
        return hash((str(self.library.path), str(self.new_path)))

    def __repr__(self) -> str:
        return f"<PartMovePlan {self.taken.title} of {self.name} to {self.new_path}>"

    @property
    def library(self) -> Library:
        """The library."""
        return self.contents.library

    @property
    def name(self) -> str:
        """The library's name."""
        return self.contents.library.name

    @property
    def path(self) -> Path:
        """Where the library is."""
        return self.contents.library.path

    @property
    def blocked(self) -> tuple[Finding, ...]:
        """The findings that block it and were not overruled."""
        return blocking(self.findings, self.options.ignore)

    @property
    def would_run(self) -> bool:
        """Whether nothing blocks it."""
        return not self.blocked

    @property
    def file_count(self) -> int:
        """Number of files that go."""
        return len(self.taken.files)

    @property
    def size_bytes(self) -> int:
        """Bytes of the files that go."""
        return sum(file.size for file in self.taken.files)

    @property
    def parts(self) -> tuple[str, ...]:
        """Titles of the parts."""
        return tuple(part.title for part in self.taken.parts)

    @property
    def shared_paths(self) -> tuple[str, ...]:
        """Files of the parts that stay in the library, too."""
        return self.taken.shared


class RehomeResult(Value, msgspec.Struct, frozen=True):
    """The summary of a move.

    `path` is where the library was, `new_path` where it is; `old_path` where its application used to find it, and `way` how
    it finds it now; `set_aside_path` the name that the original got, None if there is none left. `file_count` and
    `size_bytes` were copied and proven; `updated_references` are references that were updated, `references_by_hand` those
    that a person has to look at. `shared_paths` are shared files of parts that stay in the library, too.
    """

    _shown: ClassVar[tuple[str, ...]] = ("name", "new_path", "file_count")
    _told: ClassVar[tuple[str, ...]] = (
        "name",
        "path",
        "new_path",
        "old_path",
        "drive",
        "way",
        "back",
        "parts",
        "set_aside_path",
        "file_count",
        "size_bytes",
        "link_count",
        "updated_references",
        "references_by_hand",
        "settings",
        "unmoved_files",
        "outside_files",
        "shared_paths",
        "findings",
    )
    _rows: ClassVar[str] = "unmoved_files"

    name: str
    application: str
    path: Path
    new_path: Path
    old_path: Path
    drive: str
    way: str
    back: bool
    set_aside_path: Path | None
    file_count: int
    size_bytes: int
    link_count: int
    updated_references: tuple[Repoint, ...]
    references_by_hand: tuple[ByHand, ...]
    settings: tuple[SettingChange, ...]
    unmoved_files: tuple[PathAndWhy, ...]
    outside_files: tuple[MovedPath, ...]
    findings: tuple[Finding, ...]
    seconds: float
    parts: tuple[str, ...] = ()
    shared_paths: tuple[str, ...] = ()


class RejoinResult(Value, msgspec.Struct, frozen=True):
    """The summary of a rejoining: what of the second library came to the one on the drive, and what became of the second.

    `added_count` are its files that were new, `same_count` those that were there already; `merged_paths` files were made one
    of both, `renamed_files` came under another name, `kept_paths` stayed as they were on the drive.
    """

    _shown: ClassVar[tuple[str, ...]] = ("name", "path", "added_count")
    _told: ClassVar[tuple[str, ...]] = (
        "name",
        "path",
        "old_path",
        "drive",
        "way",
        "second_path",
        "set_aside_path",
        "added_count",
        "same_count",
        "merged_paths",
        "renamed_files",
        "kept_paths",
        "settings",
        "findings",
    )
    _rows: ClassVar[str] = "renamed_files"

    name: str
    path: Path
    old_path: Path
    drive: str
    way: str
    second_path: Path | None
    set_aside_path: Path | None
    added_count: int
    same_count: int
    merged_paths: tuple[str, ...]
    renamed_files: tuple[RenamedPath, ...]
    kept_paths: tuple[str, ...]
    settings: tuple[SettingChange, ...]
    findings: tuple[Finding, ...]
    seconds: float
