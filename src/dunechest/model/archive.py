"""What archiving is asked for, plans, and did."""

from __future__ import annotations

import os
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any, ClassVar

import msgspec

from dunechest.chest.chest import Chest
from dunechest.chest.file_table import FileTable
from dunechest.chest.layout import LIBRARY_FILES
from dunechest.chest.records import (
    AttributeRecord,
    ChangeCounts,
    FolderRecord,
    LibraryRecord,
    LinkRecord,
    OwnerRecord,
    PlaceRecord,
)
from dunechest.document import plain
from dunechest.errors import UsageError
from dunechest.findings import Finding
from dunechest.library.library import Library
from dunechest.library.roles import Role
from dunechest.model.parts import NeedsRoom, OfLibrary
from dunechest.model.study import (
    ALL_HELD,
    EVERYTHING,
    Choice,
    Contents,
    Drive,
    LeftOutFile,
    NotHeld,
    OutsideFile,
    Room,
    Selection,
)
from dunechest.names import is_slug, meant, shown
from dunechest.transfer.walk import FileEntry, Walk
from dunechest.values import PathAndWhy, StoredName, Value, digest_of_values

if TYPE_CHECKING:
    pass

#: Codes of the blocking findings an archive can meet.
BLOCKING_CODES = frozenset(
    {
        "in-use",
        "half-library",
        "placeholders",
        "read-only",
        "mass-change",
        "name-taken",
        "perhaps-same",
        "newer-state",
        "not-in-chest",
        "forget-absent",
        "chest-inside",
        "inside-chest",
        "no-room",
        "file-too-large",
        "damaged-archive",
        "chest-damaged",
    }
)


#: Those that stay until a person decides something or changes something: the same command would be refused again.
LASTING_CODES = frozenset(
    {"half-library", "placeholders", "mass-change", "name-taken", "perhaps-same", "newer-state", "not-in-chest"}
)


#: Those that may be over tomorrow.
PASSING_CODES = frozenset({"no-room", "file-too-large", "read-only"})


class ArchiveOptions(msgspec.Struct, frozen=True):
    """What a person chose for an archive.

    Parameters
    ----------
    name : str, optional
        Another name for the bag of a single library.
    choice : Choice
        Which parts and which files.
    read_all : bool
        Distrust sizes and times: read every file, and compare its bytes with those archived.
    ignore : tuple of str
        Codes of blocking findings to overrule, as far as they yield.
    continues : str, optional
        Name of the bag in the chest that the single library is, from another computer or place.
    forget_absent : tuple of str
        Paths, folders or patterns of files that cannot be seen now and are really gone: they are not kept any longer.

    Raises
    ------
    UsageError
        If `name` cannot be a bag's name, `name` and `continues` are both given, or a code is not one of `BLOCKING_CODES`: a
        mistyped one must not look as if it had been heeded.
    """

    name: str | None = None
    choice: Choice = EVERYTHING
    read_all: bool = False
    ignore: tuple[str, ...] = ()
    continues: str | None = None
    forget_absent: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        msgspec.structs.force_setattr(
            self, "ignore", (self.ignore,) if isinstance(self.ignore, str) else tuple(self.ignore)
        )
        msgspec.structs.force_setattr(
            self,
            "forget_absent",
            (self.forget_absent,) if isinstance(self.forget_absent, str) else tuple(self.forget_absent),
        )
        if self.name is not None and not is_slug(self.name):
            raise UsageError(
                f"{shown(self.name)!r} cannot be a library's name in a chest: use small letters, digits and hyphens."
            )
        if self.name is not None and self.continues is not None:
            raise UsageError(
                "--as and --continue exclude each other: choose a new name, or a library that is already in the chest."
            )
        for code in self.ignore:
            if code not in BLOCKING_CODES:
                known = ", ".join(sorted(BLOCKING_CODES))
                hint = meant(code, BLOCKING_CODES)
                raise UsageError(f"--ignore {shown(code)}: there is no such finding.{hint} Codes: {known}.")


#: The options of whoever chose nothing.
USUAL = ArchiveOptions()


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


class ArchivePlan(OfLibrary, NeedsRoom, Value, msgspec.Struct, frozen=True, eq=False):
    """What archiving one library means.

    `state` is ``new`` (a bag will be made), ``unchanged`` (the chest has it unchanged,
    nothing is to be done), ``next`` (the bag gets its next edition) or ``blocked`` (something else
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
        """Number of the edition that will be made, or that is there unchanged."""
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


#: Why a file is lost that only the chest had just now.
NOT_SEEN_NOW = "it cannot be seen on this computer now"


class ArchiveResult(Value, msgspec.Struct, frozen=True):
    """The summary of an archive run for one library.

    `found_count` is `archived_count` plus the number of `left_out`, and so for bytes; `stored_bytes` differs from
    `archived_bytes` only by captured databases, which have a size of their own. `reread_paths` are files that changed while
    they were read and were read again; `damaged_databases` are databases that SQLite finds damaged or cannot read, with its
    words; `appeared_paths` and `changed_paths` are files that came, or changed, after they could be copied. `resumed_count`
    counts files that an earlier, interrupted run had already brought to the drive. `parts` are the titles of the parts asked
    for, empty for the whole library; `outside_count` of the files copied came from outside it, and `outside_left_count` were
    not gathered. `edition` is the one that was made, or is there unchanged; `unchanged_count` of the files copied were on the
    drive already, from an earlier edition; `changes` count what changed since; `silently_changed_paths` are files with other
    bytes though size and time are the same. `repaired_paths` are files that had gone from the chest, or had another size
    there, and were copied again; `lost_files` are those of which the library has other bytes by now. `chest_label` is the
    label of the chest. `not_seen_files` are files that could not be seen, and that the archive keeps as they were.
    """

    _shown: ClassVar[tuple[str, ...]] = ("name", "state", "edition", "archived_count", "archived_bytes", "ok")
    _told: ClassVar[tuple[str, ...]] = (
        "name",
        "chest_label",
        "archived_as",
        "folder",
        "state",
        "edition",
        "ok",
        "found_count",
        "found_bytes",
        "archived_count",
        "archived_bytes",
        "stored_bytes",
        "unchanged_count",
        "resumed_count",
        "folder_count",
        "link_count",
        "database_count",
        "outside_count",
        "outside_bytes",
        "outside_left_count",
        "parts",
        "changes",
        "left_out",
        "changed_names",
        "reread_paths",
        "appeared_paths",
        "changed_paths",
        "silently_changed_paths",
        "repaired_paths",
        "lost_files",
        "not_seen_files",
        "damaged_databases",
        "findings",
        "seconds",
    )
    _rows: ClassVar[str] = "left_out"

    name: str
    archived_as: str
    folder: Path
    state: str
    found_count: int
    found_bytes: int
    left_out: tuple[LeftOutFile, ...]
    folder_count: int
    link_count: int
    database_count: int
    seconds: float
    findings: tuple[Finding, ...] = ()
    archived_count: int = 0
    archived_bytes: int = 0
    stored_bytes: int = 0
    changed_names: tuple[StoredName, ...] = ()
    reread_paths: tuple[str, ...] = ()
    damaged_databases: tuple[PathAndWhy, ...] = ()
    appeared_paths: tuple[str, ...] = ()
    changed_paths: tuple[str, ...] = ()
    resumed_count: int = 0
    parts: tuple[str, ...] = ()
    outside_count: int = 0
    outside_bytes: int = 0
    outside_left_count: int = 0
    edition: int = 1
    unchanged_count: int = 0
    changes: ChangeCounts | None = None
    silently_changed_paths: tuple[str, ...] = ()
    repaired_paths: tuple[str, ...] = ()
    lost_files: tuple[PathAndWhy, ...] = ()
    chest_label: str = ""
    not_seen_files: tuple[CarriedFile, ...] = ()

    @property
    def bytes_left_out(self) -> int:
        """Bytes of the files left out."""
        return sum(file.size_bytes for file in self.left_out)

    @property
    def ok(self) -> bool:
        """Whether everything that can be archived was, and nothing moved meanwhile."""
        return not (
            any(file.fault for file in self.left_out)
            or self.damaged_databases
            or self.appeared_paths
            or self.changed_paths
            or self.silently_changed_paths
            or self.lost_files
        )
