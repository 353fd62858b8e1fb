"""What was found on this computer, and what is in one library."""

from __future__ import annotations

from collections import Counter
from pathlib import Path
from typing import TYPE_CHECKING, ClassVar, NamedTuple

import msgspec

from dunechest.chest.chest import Chest
from dunechest.findings import Finding
from dunechest.library.in_use import Use
from dunechest.library.library import Library
from dunechest.library.parts import Part
from dunechest.library.recognise import InnerLibrary, Recognised
from dunechest.library.references.reading import Reference
from dunechest.library.roles import RoleTotal
from dunechest.library.search import UnknownFolder
from dunechest.model.homes import Home
from dunechest.model.parts import OfLibrary
from dunechest.model.study import Contents, Drive, OutsideFile, Selection
from dunechest.paths import TOP
from dunechest.values import Value

if TYPE_CHECKING:
    pass


class FoundLibrary(OfLibrary, Value, msgspec.Struct, frozen=True):
    """A library and its size: number of files, bytes, and its newest file's time (seconds since 1970).

    `whose` says in words whose it is or was: an old system's, or another drive's; empty
    for one in one's own home. `rebuildable_bytes` are bytes that can be made again, of those in `size_bytes`; `drive` is
    the folder where its drive appears; `contains` are libraries of other kinds in it.
    """

    _shown: ClassVar[tuple[str, ...]] = ("file_count", "size_bytes", "whose")
    _told: ClassVar[tuple[str, ...]] = (
        "name",
        "kind",
        "path",
        "drive",
        "whose",
        "file_count",
        "size_bytes",
        "rebuildable_bytes",
        "changed_at",
        "evidence",
        "contains",
    )

    library: Library
    file_count: int
    size_bytes: int
    changed_at: float
    whose: str = ""
    rebuildable_bytes: int = 0
    drive: Path = TOP
    inner: tuple[Recognised, ...] = ()

    @property
    def contains(self) -> tuple[InnerLibrary, ...]:
        """Libraries of other kinds inside it."""
        return tuple(InnerLibrary(inner.path, inner.kind.name) for inner in self.inner)

    @property
    def essential(self) -> int:
        """Bytes that cannot be made again."""
        return self.size_bytes - self.rebuildable_bytes


class FoundDrive(Value, msgspec.Struct, frozen=True):
    """A drive with libraries on it: where it is mounted, its filesystem, and in bytes its space and what its libraries take."""

    _shown: ClassVar[tuple[str, ...]] = ("free_bytes", "total_bytes", "essential_bytes", "rebuildable_bytes")

    path: Path
    filesystem: str
    free_bytes: int
    total_bytes: int
    essential_bytes: int
    rebuildable_bytes: int


class FindResult(Value, msgspec.Struct, frozen=True):
    """What `find_libraries` found, where it searched, and folders it could not list.

    `moved_libraries` are libraries that were moved to a drive, wherever they are now. `drives` are those that the libraries
    lie on, the one with most of them first.

    `unknown_folders` are folders that no kind fits and that look like something to keep, the largest first;
    `kind_file_errors` says what is wrong with kind files of one's own, which were passed over. `loose_folders` are folders of
    the home with files that lie in no library, if the whole home was searched.
    """

    _rows: ClassVar[str] = "libraries"

    libraries: tuple[FoundLibrary, ...]
    searched_paths: tuple[Path, ...]
    unreadable_paths: tuple[str, ...]
    unknown_folders: tuple[UnknownFolder, ...] = ()
    kind_file_errors: tuple[str, ...] = ()
    drives: tuple[FoundDrive, ...] = ()
    moved_libraries: tuple[Home, ...] = ()
    loose_folders: tuple[LooseFolder, ...] = ()


class BigThing(Value, msgspec.Struct, frozen=True):
    """A file or folder at the top of the library, and its bytes and files."""

    _shown: ClassVar[tuple[str, ...]] = ("path", "file_count", "size_bytes")

    path: str
    role: str
    file_count: int
    size_bytes: int


class DriveFit(Value, msgspec.Struct, frozen=True):
    """How well a drive suits a library: bytes needed and free, and bytes written per second."""

    _shown: ClassVar[tuple[str, ...]] = ("archived_as", "state")
    _told: ClassVar[tuple[str, ...]] = (
        "chest",
        "filesystem",
        "mount",
        "devices",
        "archived_as",
        "state",
        "needed_bytes",
        "free_bytes",
        "bytes_per_second",
        "longest_name",
        "largest_file_bytes",
        "tells_case",
        "symbolic_links",
    )

    chest: Chest
    drive: Drive
    archived_as: str
    state: str
    needed_bytes: int
    free_bytes: int
    bytes_per_second: float

    @property
    def filesystem(self) -> str:
        """Type of its filesystem."""
        return self.drive.place.type

    @property
    def mount(self) -> Path:
        """Where it is mounted."""
        return self.drive.place.mount

    @property
    def devices(self) -> frozenset[str]:
        """Its devices."""
        return self.drive.devices

    @property
    def longest_name(self) -> int:
        """How long a name may be there."""
        return self.drive.place.limits.longest

    @property
    def largest_file_bytes(self) -> int | None:
        """How large a file may be there; None for no limit."""
        return self.drive.place.limits.largest

    @property
    def tells_case(self) -> bool:
        """Whether large and small letters differ there."""
        return self.drive.place.limits.tells_case

    @property
    def symbolic_links(self) -> bool | None:
        """Whether it holds symbolic links; None if that was not tried."""
        return self.drive.probed.links if self.drive.probed is not None else None


class ReferenceTotal(NamedTuple):
    """How many references of a library lead inside, to other files, to nothing, to the web, and to folders outside."""

    inside_count: int
    outside_count: int
    missing_count: int
    web_count: int
    folder_count: int


class Readiness(OfLibrary, Value, msgspec.Struct, frozen=True):
    """The outcome of inspecting a library; `findings` are most serious first, `drive` is set if a chest was named."""

    _shown: ClassVar[tuple[str, ...]] = ("file_count", "size_bytes")
    _told: ClassVar[tuple[str, ...]] = (
        "name",
        "kind",
        "path",
        "evidence",
        "file_count",
        "folder_count",
        "link_count",
        "size_bytes",
        "roles",
        "largest_items",
        "parts",
        "reference_total",
        "other_references",
        "outside_files",
        "contains",
        "placeholder_paths",
        "uses",
        "drive",
        "findings",
    )
    _rows: ClassVar[str] = "roles"

    contents: Contents
    selection: Selection
    roles: tuple[RoleTotal, ...]
    largest_items: tuple[BigThing, ...]
    findings: tuple[Finding, ...]
    drive: DriveFit | None = None

    @property
    def contains(self) -> tuple[InnerLibrary, ...]:
        """Libraries of other kinds inside it."""
        return tuple(InnerLibrary(inner.path, inner.kind.name) for inner in self.contents.contains)

    @property
    def library(self) -> Library:  # type: ignore[override]
        """The library."""
        return self.contents.library

    @property
    def file_count(self) -> int:
        """Number of files in it."""
        return len(self.contents.listing.files)

    @property
    def size_bytes(self) -> int:
        """Bytes of the files in it."""
        return self.contents.listing.bytes

    @property
    def link_count(self) -> int:
        """Number of symbolic links in it."""
        return len(self.contents.listing.links)

    @property
    def folder_count(self) -> int:
        """Number of folders, itself included."""
        return len(self.contents.listing.folders)

    @property
    def uses(self) -> tuple[Use, ...]:
        """Who has it open."""
        return self.contents.uses

    @property
    def parts(self) -> tuple[Part, ...]:
        """What may be taken alone."""
        return self.contents.parts

    @property
    def references(self) -> tuple[Reference, ...]:
        """What it refers to."""
        return self.contents.references.references

    @property
    def reference_total(self) -> ReferenceTotal:
        """Numbers of references that lead inside, to other files, to nothing, to the web, and to folders outside."""
        states = Counter(reference.state for reference in self.references)
        return ReferenceTotal(*(states[state] for state in ("inside", "outside", "missing", "away", "folder")))

    @property
    def other_references(self) -> tuple[Reference, ...]:
        """References that do not lead inside."""
        return tuple(reference for reference in self.references if reference.state != "inside")

    @property
    def outside_files(self) -> tuple[OutsideFile, ...]:
        """Files stored elsewhere that it uses, those that cannot be archived included."""
        return (*self.selection.outside_files, *self.selection.outside_not_taken)

    @property
    def placeholder_paths(self) -> tuple[str, ...]:
        """Files of which only the placeholder is here."""
        return tuple(file.path for file in self.contents.listing.files if file.placeholder)


class Watched(Value, msgspec.Struct, frozen=True):
    """A library at one moment.

    Attributes
    ----------
    name : str
        Its name.
    file_count, size_bytes : int
        Files that are here, and their bytes.
    placeholder_count, placeholder_bytes : int
        Files of which only the placeholder is here, and the bytes that are still to come.
    processes : tuple of str
        Names of the processes that have it open.
    bytes_per_second : float
        Bytes a second that came in the last minute; negative if they went.
    seconds_left : float or None
        Seconds until the last placeholder is brought here, at that rate; None if that cannot be told.
    seconds_unchanged : float
        Seconds since anything changed.
    complete : bool
        Whether nothing is a placeholder, nobody has it open, and nothing has changed for some looks.
    """

    _shown: ClassVar[tuple[str, ...]] = (
        "name",
        "file_count",
        "size_bytes",
        "placeholder_count",
        "seconds_unchanged",
        "complete",
    )

    name: str
    file_count: int
    size_bytes: int
    placeholder_count: int
    placeholder_bytes: int
    processes: tuple[str, ...]
    bytes_per_second: float
    seconds_left: float | None
    seconds_unchanged: float
    complete: bool


class LooseFolder(Value, msgspec.Struct, frozen=True):
    """A folder with files that lie in no library: how many, and their bytes; whether it is a standard folder."""

    _shown: ClassVar[tuple[str, ...]] = ("path", "file_count", "size_bytes")

    path: Path
    file_count: int
    size_bytes: int
    standard: bool
