"""What archiving a library means, as plain values: nothing is decided here, and nothing done."""

from __future__ import annotations

import os
from collections.abc import Mapping
from pathlib import Path
from typing import Any, ClassVar

import msgspec

from dunechest.chest.chest import Chest
from dunechest.chest.file_table import FileTable
from dunechest.chest.layout import LIBRARY_FILES
from dunechest.chest.records import (
    AttributeRecord,
    FolderRecord,
    LibraryRecord,
    LinkRecord,
    OwnerRecord,
    PlaceRecord,
)
from dunechest.document import plain
from dunechest.findings import Finding
from dunechest.jobs.archive.lesser import ALL_HELD, NotHeld
from dunechest.jobs.archive.options import ArchiveOptions
from dunechest.jobs.study.choice import Choice, LeftOutFile
from dunechest.jobs.study.contents import Contents
from dunechest.jobs.study.drive import Drive
from dunechest.jobs.study.room import Room
from dunechest.jobs.study.selection import OutsideFile, Selection
from dunechest.library.library import Library
from dunechest.library.roles import Role
from dunechest.transfer.walk import FileEntry, Walk
from dunechest.values import StoredName, Value, digest_of_values


class PlannedFile(msgspec.Struct, frozen=True, gc=False):
    """A file to archive: as found, its role, and its path below ``data/`` if that differs.

    The path in `entry` is the library's own, or for an outside file the full one.
    """

    _told: ClassVar[tuple[str, ...]] = ("path", "stored_as", "size_bytes", "role")

    entry: FileEntry
    role: Role
    other_name: str = ""
    outside_file: bool = False
    other_place: str = ""

    @property
    def path(self) -> str:
        """Its path in the library."""
        return self.entry.path

    @property
    def size_bytes(self) -> int:
        """Its size."""
        return self.entry.size

    @property
    def found_at(self) -> str:
        """Its path in the library as it lies there: a place that cannot hold its name has it under another one."""
        return self.other_place or self.entry.path

    @property
    def stored_as(self) -> str:
        """Path below ``data/``; of half a million files it is made when it is asked for."""
        return self.other_name or LIBRARY_FILES + self.entry.path


class PlannedDatabase(msgspec.Struct, frozen=True):
    """A database to copy through SQLite, its path below ``data/``, and the companions whose content is included."""

    file: PlannedFile
    companions: tuple[PlannedFile, ...]


class Attributes(msgspec.Struct, frozen=True):
    """Owners, access lists and extended attributes of what is archived, as they are recorded."""

    owners: tuple[OwnerRecord, ...] = ()
    attributes: tuple[AttributeRecord, ...] = ()


class CarriedFile(Value, msgspec.Struct, frozen=True, gc=False):
    """A file of the latest edition that cannot be seen now, and so stays as it is there.

    Parameters
    ----------
    stored : str
        Its path below ``data/``.
    path : str
        Its path in the library; of an outside file the full one.
    size_bytes : int
        Bytes.
    outside : bool
        Whether it is an outside file.
    last_seen_edition : int
        The edition in which it was seen last.
    why : str
        ``away``, ``closed``, ``placeholder``, ``too-large`` or ``unread``.
    place : str
        The folder or drive that is not there or cannot be read; empty where it is the file itself.
    """

    _shown: ClassVar[tuple[str, ...]] = ("path", "why")
    _told: ClassVar[tuple[str, ...]] = ("path", "size_bytes", "outside", "last_seen_edition", "why", "place")

    stored: str
    path: str
    size_bytes: int
    outside: bool
    last_seen_edition: int
    why: str
    place: str = ""


class Difference(msgspec.Struct, frozen=True):
    """Differences from the latest edition.

    Parameters
    ----------
    record : LibraryRecord
        The latest edition.
    files : FileTable
        Its payload, by path below ``data/``.
    kept, kept_databases : tuple
        What is just as it was: it is not read.
    to_read, to_capture : tuple
        What is new, or has another size or time.
    dropped : tuple of str
        Paths below ``data/`` of what is no longer there.
    others : tuple of str
        Links, folders and modes that differ; no bytes are concerned.
    lost : tuple
        Of what is kept, files that the chest does not have any more, or not in their size.
    recorded : tuple of str
        What is recorded otherwise, though no file differs: the kind, owners and attributes.
    carried : tuple of CarriedFile
        What cannot be seen now, and is neither kept nor dropped.
    carried_folders, carried_links : tuple
        Records of folders and links that cannot be seen now.
    carried_lost : tuple of CarriedFile
        Of what is carried over, files that the chest does not have any more.
    missed : tuple of str
        What a person says is really gone, and means none of what cannot be seen.
    """

    record: LibraryRecord
    files: FileTable
    kept: tuple[PlannedFile, ...]
    kept_databases: tuple[PlannedDatabase, ...]
    to_read: tuple[PlannedFile, ...]
    to_capture: tuple[PlannedDatabase, ...]
    dropped: tuple[str, ...]
    others: tuple[str, ...]
    lost: tuple[PlannedFile, ...] = ()
    recorded: tuple[str, ...] = ()
    carried: tuple[CarriedFile, ...] = ()
    carried_folders: tuple[FolderRecord, ...] = ()
    carried_links: tuple[LinkRecord, ...] = ()
    carried_lost: tuple[CarriedFile, ...] = ()
    missed: tuple[str, ...] = ()

    @property
    def none(self) -> bool:
        """Whether there is none at all."""
        return not (self.to_read or self.to_capture or self.dropped or self.others or self.recorded)

    @property
    def paths(self) -> tuple[str, ...]:
        """Every path in which they differ: the library's own, for what is gone the one below ``data/``."""
        changed = {file.entry.path for file in self.to_read} | {db.file.entry.path for db in self.to_capture}
        gone = {path.removeprefix(LIBRARY_FILES) for path in self.dropped}
        return tuple(sorted({*changed, *gone, *self.others}))


class ArchivePlan(Value, msgspec.Struct, frozen=True, eq=False):
    """What archiving one library means.

    `state` is ``new`` (a bag will be made), ``unchanged`` (the chest has it just so,
    nothing is to be done), ``next`` (the bag gets its next edition) or ``barred`` (something else
    has the name). `folders` maps each folder's path in the library to its path below ``data/``; `selection`
    is what was asked for, and `files_to_read` are to be read of it, outside files included. `previous` says in
    what the library differs from its latest edition, if there is one.

    `places` are the folders of the library in which other filesystems are mounted; `follows` are the states that the edition
    comes after. `protects` says that the edition before is kept whatever a retention rule says, `mass_change` that much
    changed since; `lacks` counts files that only another chest has. `lesser` says what the library's place cannot hold.

        Two plans are equal if they decide the same (`decisions`). What changes by itself stands beside that: `room`, and the
    `drive` as it was found.
    """

    _told: ClassVar[tuple[str, ...]] = (
        "name",
        "kind",
        "path",
        "archived_as",
        "state",
        "edition",
        "parts",
        "found_count",
        "found_bytes",
        "unchanged_count",
        "dropped_count",
        "copy_count",
        "copy_bytes",
        "folder_count",
        "link_count",
        "needed_bytes",
        "free_bytes",
        "database_paths",
        "outside_files",
        "left_out",
        "not_seen_files",
        "changed_names",
        "files",
        "findings",
    )
    _rows: ClassVar[str] = "files"

    library: Library
    chest: Chest
    archived_as: str
    state: str
    options: ArchiveOptions
    contents: Contents
    selection: Selection
    files_to_read: tuple[PlannedFile, ...]
    databases: tuple[PlannedDatabase, ...]
    skipped: tuple[LeftOutFile, ...]
    folders: Mapping[str, str]
    stored_names: Mapping[str, str]
    hard_links: tuple[tuple[str, ...], ...]
    findings: tuple[Finding, ...]
    drive: Drive
    room: Room
    previous: Difference | None = None
    attributes: Attributes = Attributes()
    places: tuple[PlaceRecord, ...] = ()
    follows: tuple[str, ...] = ()
    protects: bool = False
    mass_change: bool = False
    lacks: int = 0
    lesser: NotHeld = ALL_HELD

    @property
    def name(self) -> str:
        """What the library is called."""
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
    def needed_bytes(self) -> int:
        """Bytes that it needs on the drive."""
        return self.room.need

    @property
    def free_bytes(self) -> int:
        """Bytes that are free there."""
        return self.room.free

    def decisions(self) -> dict[str, Any]:
        """Return all that the plan decides, as JSON values: two plans with the same do the same."""
        databases = [[d.file.stored_as, d.file.entry.size, d.file.entry.mtime_ns] for d in self.databases]
        files = [
            [f.entry.path, f.stored_as, f.entry.size, f.entry.mtime_ns, f.role, f.outside_file]
            for f in self.files_to_read
        ]
        previous = self.previous
        return {
            "library": str(self.library.path),
            "kind": self.library.kind.name,
            "chest": self.chest.id,
            "bag": self.archived_as,
            "state": self.state,
            "edition": self.edition,
            "options": plain(self.options),
            "files": len(files),
            "each file": digest_of_values([files, databases]),
            "kept": digest_of_values([file.stored_as for file in self.kept]),
            "dropped": list(previous.dropped) if previous is not None else [],
            "carried": digest_of_values(
                [[item.stored, item.last_seen_edition, item.why] for item in self.not_seen_files]
            ),
            "follows": list(self.follows),
            "protects": self.protects,
            "left out": [[item.path, item.why, item.fault] for item in self.skipped],
            "names": digest_of_values([sorted(self.folders.items()), sorted(self.stored_names.items())]),
            "links": digest_of_values([list(self.hard_links), [[k.path, k.target] for k in self.listing.links]]),
            "blocked_by": sorted(
                f"{f.code}: {f.message}" for f in self.findings if f.severity == "blocks" and f.code != "no-room"
            ),
        }

    @property
    def parts(self) -> tuple[str, ...]:
        """Titles of the parts asked for; empty for the whole library."""
        return tuple(part.title for part in self.selection.parts)

    @property
    def unchanged_count(self) -> int:
        """Number of files that the chest has as they are now."""
        return len(self.kept) + len(self.kept_databases)

    @property
    def dropped_count(self) -> int:
        """Number of files that are gone since the latest edition."""
        return len(self.previous.dropped) if self.previous is not None else 0

    @property
    def copy_count(self) -> int:
        """Number of files to copy."""
        return len(self.files_to_read) + len(self.databases)

    @property
    def folder_count(self) -> int:
        """Number of folders."""
        return len(self.listing.folders)

    @property
    def link_count(self) -> int:
        """Number of symbolic links."""
        return len(self.listing.links)

    @property
    def database_paths(self) -> tuple[str, ...]:
        """Databases that are copied through SQLite."""
        return tuple(database.file.entry.path for database in self.databases)

    @property
    def outside_files(self) -> tuple[OutsideFile, ...]:
        """Files stored elsewhere that the library uses, those that cannot be archived included."""
        return (*self.archived_outside_files, *self.selection.outside_not_taken)

    @property
    def left_out(self) -> tuple[LeftOutFile, ...]:
        """What is not copied as a file, companions of databases included, each with the reason."""
        why = "its content is in the copied database"
        companions = (
            LeftOutFile(companion.entry.path, companion.entry.size, why, False)
            for database in self.databases
            for companion in database.companions
        )
        return (*self.skipped, *companions)

    @property
    def changed_names(self) -> tuple[StoredName, ...]:
        """Names that cannot be stored as they are, and the ones they are stored under."""
        return tuple(StoredName(*pair) for pair in sorted(self.stored_names.items()))

    @property
    def files(self) -> tuple[PlannedFile, ...]:
        """Files and databases to copy, in the order of their stored names."""
        files = (*self.files_to_read, *(database.file for database in self.databases))
        return tuple(sorted(files, key=lambda file: file.stored_as))

    def __eq__(self, other: object) -> bool:
        return isinstance(other, ArchivePlan) and self.decisions() == other.decisions()

    def __hash__(self) -> int:
        return hash((self.chest.id, self.archived_as, self.state, str(self.library.path)))

    def __repr__(self) -> str:
        return (
            f"<ArchivePlan {self.library.name} to {self.chest.label}: {self.state}, {len(self.files_to_read)} files>"
        )

    @property
    def choice(self) -> Choice:
        """Which parts and files were asked for."""
        return self.options.choice

    @property
    def whole_sync(self) -> bool:
        """Whether one call flushes the drive's whole filesystem."""
        return self.drive.place.whole_sync

    @property
    def edition(self) -> int:
        """Number of the edition that will be made, or that is there just so."""
        if self.previous is None:
            return 1
        return self.previous.record.edition + (self.state == "next")

    @property
    def kept(self) -> tuple[PlannedFile, ...]:
        """Files that are in the chest as they are now; outside files and databases copied as they are included."""
        return self.previous.kept if self.previous is not None else ()

    @property
    def kept_databases(self) -> tuple[PlannedDatabase, ...]:
        """Databases that are in the chest as they are now."""
        return self.previous.kept_databases if self.previous is not None else ()

    @property
    def not_seen_files(self) -> tuple[CarriedFile, ...]:
        """Files that cannot be seen now and stay as they are in the chest."""
        return self.previous.carried if self.previous is not None else ()

    @property
    def listing(self) -> Walk:
        """What was asked for of the library, taken or left out."""
        return self.selection.listing

    @property
    def archived_outside_files(self) -> tuple[OutsideFile, ...]:
        """Files outside the library that are gathered."""
        return self.selection.outside_files

    @property
    def _placeholder_outside(self) -> list[LeftOutFile]:
        inside = {file.path for file in self.listing.files}
        return [item for item in self.skipped if os.path.isabs(item.path) and item.path not in inside]

    @property
    def found_count(self) -> int:
        """Every name that is not a folder or a link, and every outside file that was to be gathered."""
        inside = len(self.listing.files) + len(self.listing.others) + len(self.listing.unreadable)
        return inside + len(self.archived_outside_files) + len(self._placeholder_outside)

    @property
    def found_bytes(self) -> int:
        """Bytes of the files found."""
        outside_files = sum(outside_file.entry.size for outside_file in self.archived_outside_files) + sum(
            placeholder_outside_file.size_bytes for placeholder_outside_file in self._placeholder_outside
        )
        return self.listing.bytes + outside_files

    @property
    def copy_bytes(self) -> int:
        """Bytes of the files to copy, as the walk saw them."""
        return sum(f.entry.size for f in self.files_to_read) + sum(d.file.entry.size for d in self.databases)
