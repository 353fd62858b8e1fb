"""What is in a library, what is taken of it, and what a drive can hold: what studying it finds."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, ClassVar

import msgspec
from msgspec.structs import replace

from dunechest.chest.records import AttributeRecord, LibraryRecord, OwnerRecord
from dunechest.findings import Finding
from dunechest.library.in_use import Use
from dunechest.library.library import Library
from dunechest.library.parts import Part
from dunechest.library.recognise import Recognised
from dunechest.library.references.reading import Reference, ReferenceReport
from dunechest.library.roles import Role
from dunechest.machine.drives import Filesystem
from dunechest.machine.probe import Probed
from dunechest.names import from_wire, parents
from dunechest.transfer.walk import FileEntry, FolderEntry, LinkEntry, Walk
from dunechest.values import FrozenDict, Value


class Choice(msgspec.Struct, frozen=True):
    """What a person chose.

    Parameters
    ----------
    parts : tuple of str
        Only these parts; everything if empty.
    rebuildable : bool or None
        Whether rebuildable files are taken; None takes them if they are small beside the rest.
    outside_files : bool
        Whether files outside that the library refers to are gathered.
    placeholders : bool
        Whether placeholders are read all the same.
    """

    parts: tuple[str, ...] = ()
    rebuildable: bool | None = None
    outside_files: bool = True
    placeholders: bool = False


#: The choice of whoever chose nothing.
EVERYTHING = Choice()


class LeftOutFile(Value, msgspec.Struct, frozen=True):
    """A file that is not copied: path in the library, bytes, why, and whether that is a fault.

    A socket is left out as it must be; a file that could not be read is a fault.
    """

    _shown: ClassVar[tuple[str, ...]] = ("path", "why")
    _told: ClassVar[tuple[str, ...]] = ("path", "size_bytes", "why", "fault")

    path: str
    size_bytes: int
    why: str
    fault: bool
    mtime_ns: int = 0


class OutsideFile(Value, msgspec.Struct, frozen=True):
    """A file outside the library that it refers to.

    `entry` has its full path; `stored` is its path below ``data/outside/``; `references`
    are all that lead to it; `why_not` says why it is not gathered, or is empty.
    """

    _shown: ClassVar[tuple[str, ...]] = ("stored", "why_not")
    _told: ClassVar[tuple[str, ...]] = ("path", "size_bytes", "reference_count", "why_not")

    entry: FileEntry
    stored: str
    references: tuple[Reference, ...]
    why_not: str = ""

    @property
    def path(self) -> str:
        """Its full path."""
        return self.entry.path

    @property
    def size_bytes(self) -> int:
        """Its size."""
        return self.entry.size

    @property
    def reference_count(self) -> int:
        """Number of references that lead to it."""
        return len(self.references)


class Selection(Value, msgspec.Struct, frozen=True):
    """What is to be archived.

    Parameters
    ----------
    listing : Walk
        What was asked for of the library, taken or left out.
    files : tuple of FileEntry
        What is taken of it.
    outside_files : tuple of OutsideFile
        What is gathered.
    outside_not_taken : tuple of OutsideFile
        Outside files that are not archived, each with the reason.
    left_out : tuple of LeftOutFile
        Files asked for that are not taken.
    parts : tuple of Part
        The parts asked for; empty for the whole library.
    rebuildable_taken : bool
        Whether rebuildable files are taken.
    """

    _shown: ClassVar[tuple[str, ...]] = ("rebuildable_taken",)

    listing: Walk
    files: tuple[FileEntry, ...]
    outside_files: tuple[OutsideFile, ...]
    outside_not_taken: tuple[OutsideFile, ...]
    left_out: tuple[LeftOutFile, ...]
    parts: tuple[Part, ...]
    rebuildable_taken: bool


class Contents(Value, msgspec.Struct, frozen=True):
    """The contents of a library, as found.

    `roles` has the roles of those of its files that are not essential; `lock_marks` are files that only say who has it
    open; `contains` are libraries of other kinds in it; `open_databases` are, while somebody has it open, all its files that
    begin as SQLite databases do: a plain copy of one that is written to would be a broken one.
    """

    library: Library
    listing: Walk
    roles: Mapping[str, Role]
    uses: tuple[Use, ...]
    references: ReferenceReport
    parts: tuple[Part, ...]
    lock_marks: frozenset[str] = frozenset()
    contains: tuple[Recognised, ...] = ()
    open_databases: frozenset[str] = frozenset()


class Drive(msgspec.Struct, frozen=True):
    """The drive a chest is on, as found.

    Parameters
    ----------
    place : Filesystem
        Its filesystem, with the limits that hold by its type and by the probe.
    probed : Probed or None
        What the probe found; None if nothing can be written.
    why_not : str
        Why nothing can be written, or empty.
    devices : frozenset of str
        Physical devices it is on, as far as the system tells.
    """

    place: Filesystem
    probed: Probed | None
    why_not: str
    devices: frozenset[str]


class Room(msgspec.Struct, frozen=True):
    """Space on a drive in bytes: how much is needed, and how much was free."""

    need: int
    free: int


class TakeOut(msgspec.Struct, frozen=True):
    """What goes with parts.

    Parameters
    ----------
    parts : tuple of Part
        The parts.
    files : tuple of FileEntry
        Their files that go.
    units : tuple of str
        What is renamed to have them go, in order: whole folders, and single files. What refers to others goes first.
    edits : tuple of str
        Catalogues and the like that what belongs to the parts is taken from.
    shared : tuple of str
        Their files that stay, because other parts or files use them.
    findings : tuple of Finding
        What forbids it.
    """

    parts: tuple[Part, ...]
    files: tuple[FileEntry, ...]
    units: tuple[str, ...]
    edits: tuple[str, ...]
    shared: tuple[str, ...]
    findings: tuple[Finding, ...] = ()
    #: Catalogue and spot of each reference to a file that stays.
    spots: frozenset[tuple[str, str]] = frozenset()

    @property
    def names(self) -> tuple[str, ...]:
        """Names and titles of the parts."""
        return tuple({name: None for part in self.parts for name in (part.name, part.title)})

    @property
    def title(self) -> str:
        """What people call them."""
        return ", ".join(part.title for part in self.parts)


class NotHeld(msgspec.Struct, frozen=True):
    """What a place cannot hold of a library, and the latest edition has.

    Parameters
    ----------
    record : LibraryRecord or None
        The latest edition; None where the place holds everything.
    modes : dict
        Modes of its files, by their own paths, where the place has none.
    names : dict
        By the path that a file or folder has in the place, its true one, where they differ.
    step_ns : int
        In what steps the place keeps times, in ns.
    not_held : tuple of str
        The sorts of things that are taken from the latest edition.
    """

    record: LibraryRecord | None = None
    modes: FrozenDict[str, int] = FrozenDict()
    names: FrozenDict[str, str] = FrozenDict()
    step_ns: int = 1
    not_held: tuple[str, ...] = ()

    def true(self, path: str) -> str:
        """Return the true path of what lies in the place; something new in a folder has its name in that."""
        if not self.names or path in self.names:
            return self.names.get(path, path)
        for above in sorted(parents(path), key=len, reverse=True):
            if above in self.names:
                return self.names[above] + path[len(above) :]
        return path

    def selection(self, selection: Selection) -> Selection:
        """Return a selection under true names, with the modes and links of the latest edition."""
        if self.record is None:
            return selection
        listing = selection.listing
        before = self._folders
        every = (self._folder(folder, before) for folder in listing.folders)
        folders = tuple(sorted(every, key=lambda folder: folder.path))
        files = tuple(sorted(map(self._file, listing.files), key=lambda file: file.path))
        others: dict[str, Any] = {"files": files, "folders": folders}
        if "links" in self.not_held:
            others["links"] = self._links({folder.path for folder in folders}, {file.path for file in files})
        else:
            times = self._times_of_links
            links = (self._link(link, times) for link in listing.links)
            others["links"] = tuple(sorted(links, key=lambda link: link.path))
        return replace(
            selection,
            listing=replace(listing, **others),
            files=tuple(sorted(map(self._file, selection.files), key=lambda file: file.path)),
            left_out=tuple(replace(item, path=self.true(item.path)) for item in selection.left_out),
        )

    def _file(self, file: FileEntry) -> FileEntry:
        path = self.true(file.path)
        mode = self.modes.get(path, _FILE) if "modes" in self.not_held else file.mode
        return file if (path, mode) == (file.path, file.mode) else replace(file, path=path, mode=mode)

    def _folder(self, folder: FolderEntry, before: dict[str, tuple[int, int]]) -> FolderEntry:
        path = self.true(folder.path)
        then = before.get(path)
        mode = folder.mode
        if "modes" in self.not_held:
            mode = then[0] if then is not None else _FOLDER
        time = then[1] if then is not None and same_time(then[1], folder.mtime_ns, self.step_ns) else folder.mtime_ns
        return replace(folder, path=path, mode=mode, mtime_ns=time)

    def _link(self, link: LinkEntry, times: dict[tuple[str, str], int]) -> LinkEntry:
        path = self.true(link.path)
        then = times.get((path, link.target), link.mtime_ns)
        return LinkEntry(path, link.target, then if same_time(then, link.mtime_ns, self.step_ns) else link.mtime_ns)

    @property
    def _times_of_links(self) -> dict[tuple[str, str], int]:
        links = self.record.links if self.record is not None else ()
        return {(from_wire(link.path), from_wire(link.target)): link.mtime_ns for link in links}

    @property
    def _folders(self) -> dict[str, tuple[int, int]]:
        record = self.record
        return {from_wire(f.path): (f.mode, f.mtime_ns) for f in record.folders} if record is not None else {}

    def _links(self, folders: set[str], files: set[str]) -> tuple[LinkEntry, ...]:
        """Return the links of the latest edition, of folders that are still there; where a file has the name now, it is that."""
        assert self.record is not None
        every = ((from_wire(link.path), from_wire(link.target), link.mtime_ns) for link in self.record.links)
        return tuple(
            LinkEntry(path, target, mtime_ns)
            for path, target, mtime_ns in every
            if path not in files and path not in folders and path.rpartition("/")[0] in folders
        )

    def attributes(
        self, owners: tuple[OwnerRecord, ...], kept: tuple[AttributeRecord, ...], selection: Selection
    ) -> tuple[tuple[OwnerRecord, ...], tuple[AttributeRecord, ...]]:
        """Return owners and attributes with those of the latest edition that the place cannot hold."""
        record = self.record
        if record is None:
            return owners, kept
        there = {"", *(file.path for file in selection.files), *(folder.path for folder in selection.listing.folders)}
        if "owners" in self.not_held:
            owners = tuple(
                OwnerRecord(o.user, o.group, own)
                for o in record.owners
                if (own := tuple(p for p in o.paths if from_wire(p) in there)) or not o.paths
            )
        if "attributes" in self.not_held:
            kept = tuple(
                AttributeRecord(a.name, a.value, own)
                for a in record.attributes
                if (own := tuple(p for p in a.paths if from_wire(p) in there))
            )
        return owners, kept


#: A place that holds everything.
ALL_HELD = NotHeld()


#: What a new file or folder gets where nobody can give it permissions.
_FILE, _FOLDER = 0o644, 0o755


def same_time(then_ns: int, now_ns: int, step_ns: int) -> bool:
    """Whether a time is the one that a place would have kept of another, in its steps.

    >>> same_time(1_234_567_890, 1_230_000_000, 10_000_000), same_time(1_234_567_890, 1_240_000_001, 10_000_000)
    (True, False)
    """
    return then_ns == now_ns or (step_ns > 1 and abs(then_ns - now_ns) < step_ns and not now_ns % step_ns)
