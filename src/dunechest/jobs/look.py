"""Look at one library, and at the drive it is to go to, before anything is copied."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping
from typing import TYPE_CHECKING, ClassVar, Literal

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
from dunechest.library.references.reading import Reference
from dunechest.library.roles import Role, RoleTotal, totals
from dunechest.machine.probe import write_speed
from dunechest.names import AnyPath, shown
from dunechest.transfer.walk import Walk
from dunechest.values import Value, frame

if TYPE_CHECKING:
    import pandas as pd

_BIGGEST = 8


class BigThing(Value, msgspec.Struct, frozen=True):
    """A file or folder at the top of the library, and its bytes and files."""

    _shown: ClassVar[tuple[str, ...]] = ("path", "files", "bytes")
    _document: ClassVar[str] = "look.Item"

    path: str
    role: str
    files: int
    bytes: int


class DriveFit(Value, msgspec.Struct, frozen=True):
    """How well a drive suits a library: bytes needed and free, and bytes written per second."""

    _shown: ClassVar[tuple[str, ...]] = ("bag", "state")
    _document: ClassVar[str] = "look.DriveFit"

    chest: Chest
    drive: Drive
    bag: str
    state: str
    need: int
    free: int
    speed: float


class Readiness(Value, msgspec.Struct, frozen=True):
    """The outcome of inspecting a library; `findings` are most serious first, `fit` is set if a chest was named."""

    _shown: ClassVar[tuple[str, ...]] = ("files", "bytes")
    _document: ClassVar[str] = "look.LookedLibrary"

    contents: Contents
    selection: Selection
    roles: tuple[RoleTotal, ...]
    biggest: tuple[BigThing, ...]
    findings: tuple[Finding, ...]
    fit: DriveFit | None = None

    @property
    def library(self) -> Library:
        """The library."""
        return self.contents.library

    @property
    def files(self) -> int:
        """Number of files in it."""
        return len(self.contents.listing.files)

    @property
    def bytes(self) -> int:
        """Bytes of the files in it."""
        return self.contents.listing.bytes

    @property
    def links(self) -> int:
        """Number of symbolic links in it."""
        return len(self.contents.listing.links)

    @property
    def folders(self) -> int:
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
    def reference_total(self) -> tuple[int, int, int, int, int]:
        """Numbers of references that lead inside, to other files, to nothing, to the web, and to folders outside."""
        states = Counter(reference.state for reference in self.references)
        return (states["inside"], states["outside"], states["missing"], states["away"], states["folder"])

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

    def to_frame(self, of: Literal["roles", "parts", "references", "findings"] = "roles") -> pd.DataFrame:
        """Return one row a role, part, reference or finding."""
        rows: Iterable[dict[str, object]]
        if of == "roles":
            columns = ["role", "files", "bytes"]
            rows = ({"role": r.role, "files": r.files, "bytes": r.bytes} for r in self.roles)
        elif of == "parts":
            columns = ["what", "name", "files", "outside_files", "bytes"]
            rows = (
                {
                    "what": p.what,
                    "name": p.title,
                    "files": len(p.files),
                    "outside_files": len(p.outside_files),
                    "bytes": p.bytes,
                }
                for p in self.parts
            )
        elif of == "references":
            columns = ["source", "spot", "text", "state", "target"]
            rows = ({name: shown(getattr(r, name)) for name in columns} for r in self.references)
        else:
            columns = ["code", "severity", "message", "action"]
            rows = ({name: getattr(f, name) for name in columns} for f in self.findings)
        return frame(list(rows), columns=columns)


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
        fit = DriveFit(target, plan.drive, plan.bag, plan.state, plan.room.need, plan.room.free, speed)
    return Readiness(
        contents=contents,
        selection=selection,
        roles=totals(contents.roles, contents.listing.files),
        biggest=_biggest(contents.roles, contents.listing),
        findings=most_serious_first(findings),
        fit=fit,
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
    things.sort(key=lambda t: (-t.bytes, t.path))
    return tuple(things[:_BIGGEST])
