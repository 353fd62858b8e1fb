"""Look at one library, and at the drive it is to go to, before anything is copied."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, ClassVar, NamedTuple

import msgspec

from dunechest.chest.chest import Chest
from dunechest.findings import Finding, most_serious_first
from dunechest.jobs.archive.options import ArchiveOptions
from dunechest.jobs.archive.planning.make import plan_archive
from dunechest.jobs.named import AnyLibrary, get_chest, get_library
from dunechest.jobs.study.choice import EVERYTHING, Choice
from dunechest.jobs.study.contents import Contents, study
from dunechest.jobs.study.drive import Drive
from dunechest.jobs.study.drive_findings import slow_finding
from dunechest.jobs.study.library_findings import library_findings
from dunechest.jobs.study.selection import OutsideFile, Selection, select
from dunechest.library.in_use import Use
from dunechest.library.library import Library
from dunechest.library.parts import Part
from dunechest.library.recognise import InnerLibrary
from dunechest.library.references.reading import Reference
from dunechest.library.roles import Role, RoleTotal, totals
from dunechest.machine.probe import write_speed
from dunechest.names import AnyPath
from dunechest.transfer.walk import Walk
from dunechest.values import Value

if TYPE_CHECKING:
    pass

_BIGGEST = 8


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


class Readiness(Value, msgspec.Struct, frozen=True):
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
    def name(self) -> str:
        """What it is called."""
        return self.library.name

    @property
    def kind(self) -> str:
        """Name of its kind."""
        return self.library.kind.name

    @property
    def path(self) -> Path:
        """Where it is."""
        return self.library.path

    @property
    def evidence(self) -> tuple[str, ...]:
        """What it was recognised by."""
        return self.library.evidence

    @property
    def contains(self) -> tuple[InnerLibrary, ...]:
        """Libraries of other kinds inside it."""
        return tuple(InnerLibrary(inner.path, inner.kind.name) for inner in self.contents.contains)

    @property
    def library(self) -> Library:
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


def look(library: AnyLibrary, *, chest: Chest | AnyPath | None = None, choice: Choice = EVERYTHING) -> Readiness:
    """Inspect a library, and a drive if a chest is named. Changes nothing.

    No placeholder is opened. What the drive can hold is tried with a few empty files
    and a few megabytes in a folder of their own in the chest, removed at once.

    Parameters
    ----------
    library : Library, path or name
        What to look at.
    chest : Chest, path or label, optional
        The chest it is to go to.
    choice : Choice
        What of it is to be archived.

    Returns
    -------
    Readiness

    Raises
    ------
    CutOffError
        If its folder cannot be listed.
    UsageError
        If a part does not exist.
    """
    target = get_chest(chest) if chest is not None else None
    contents = study(get_library(library))
    fit = None
    if target is None:
        selection = select(contents, choice)
        findings = library_findings(contents, selection)
    else:
        (plan,) = plan_archive([contents], target, ArchiveOptions(choice=choice))
        selection = plan.selection
        findings = list(plan.findings)
        speed = 0.0
        if plan.drive.probed is not None and plan.room.free > 1 << 26:
            try:
                speed = write_speed(target.folder)
                findings += slow_finding(speed, plan.room.need)
            except OSError:
                pass  # the drive changed under our hands; the archive itself will say so
        fit = DriveFit(target, plan.drive, plan.archived_as, plan.state, plan.room.need, plan.room.free, speed)
    return Readiness(
        contents=contents,
        selection=selection,
        roles=totals(contents.roles, contents.listing.files),
        largest_items=_biggest(contents.roles, contents.listing),
        findings=most_serious_first(findings),
        drive=fit,
    )


def _biggest(roles: Mapping[str, Role], listing: Walk) -> tuple[BigThing, ...]:
    """Return the biggest things directly in the library: its files, and its folders with all in them."""
    sums: dict[tuple[str, str], list[int]] = {}
    for file in listing.files:
        head, inside, _ = file.path.partition("/")
        entry = sums.setdefault((head + inside, roles.get(file.path, "essential")), [0, 0])
        entry[0] += 1
        entry[1] += file.size
    things = [BigThing(path, role, count, size) for (path, role), (count, size) in sums.items()]
    things.sort(key=lambda t: (-t.size_bytes, t.path))
    return tuple(things[:_BIGGEST])
