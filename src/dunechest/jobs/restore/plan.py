"""What restoring a library means, as plain values: nothing is decided here, and nothing done."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any, ClassVar, Literal

import msgspec

from dunechest.chest.chest import Chest
from dunechest.chest.records import LibraryRecord
from dunechest.chest.tag_lists import RecordFault
from dunechest.findings import Finding, blocking
from dunechest.jobs.restore.options import RestoreOptions
from dunechest.jobs.study.room import Room
from dunechest.library.kinds.schema import Kind
from dunechest.library.parts import Part
from dunechest.library.still_named import NO_OLD_PLACE, OldPlace
from dunechest.values import Value, digest_of_values


class Target(msgspec.Struct, frozen=True):
    """The drive that a library goes to: its device number, and whether one call flushes its whole filesystem."""

    device: int = 0
    whole_sync: bool = False


class Placement(msgspec.Struct, frozen=True):
    """Where a library goes, and how that is known; no place if it is not."""

    place: Path | None
    how: Literal["into", "standard", "map", "kind", "here", "unknown"]


Mode = Literal["free", "set-aside", "merge", "refuse"]


class Existing(msgspec.Struct, frozen=True):
    """What already exists in the place, and the decision for each file of the library.

    `writes` are new here; `same` are here already, byte for byte; `rewritten` are here as an earlier restore has
    rewritten them; `kept` stay as they are here though the chest has other bytes; `replaced` get the chest's bytes, and
    the ones here are kept; `beside` come under another name; `merged` are made one of both; `set_aside` are old and new
    paths of what gets out of the way. `paths` are those of files that were there before, by their names here.
    """

    mode: Mode
    writes: tuple[RestoreFile, ...] = ()
    same: tuple[RestoreFile, ...] = ()
    kept: tuple[RestoreFile, ...] = ()
    replaced: tuple[RestoreFile, ...] = ()
    beside: tuple[tuple[RestoreFile, str], ...] = ()
    merged: tuple[RestoreFile, ...] = ()
    set_aside: tuple[tuple[Path, Path], ...] = ()
    findings: tuple[Finding, ...] = ()
    rewritten: tuple[RestoreFile, ...] = ()
    paths: frozenset[str] = frozenset()

    @property
    def to_write(self) -> tuple[RestoreFile, ...]:
        """The files that are copied: all but those that are here already or stay as they are here."""
        return (*self.writes, *self.replaced, *(file for file, _ in self.beside), *self.merged)

    @property
    def there(self) -> int:
        """Number of files that are here already."""
        return len(self.same) + len(self.rewritten)

    @property
    def kept_paths(self) -> tuple[str, ...]:
        """Files that stay as they are here."""
        return tuple(file.path for file in self.kept)

    @property
    def replaced_paths(self) -> tuple[str, ...]:
        """Files that get the archived bytes."""
        return tuple(file.path for file in self.replaced)

    @property
    def merged_paths(self) -> tuple[str, ...]:
        """Files that are made one of both."""
        return tuple(file.path for file in self.merged)

    @property
    def conflicts(self) -> tuple[tuple[str, str], ...]:
        """Files that get another name here, and that name."""
        return tuple((file.path, other) for file, other in self.beside)


class AsArchived(msgspec.Struct, frozen=True):
    """What the library was when it was archived.

    `references` are counts by where they led, None where only some of them come back; `parts` the number
    of files of each part by what it is and its name; `databases` their paths; `agreements` the
    number of descriptors that agreed with their folders, None if there are none.
    """

    references: Mapping[str, int] | None
    parts: Mapping[tuple[str, str], int]
    databases: tuple[str, ...]
    agreements: int | None


class Repoint(msgspec.Struct, frozen=True, gc=False):
    """A reference that is updated: its file (a path in the library), how it is written, where, old, new."""

    source: str
    spec: int
    spot: str
    old: str
    new: str


class ByHand(msgspec.Struct, frozen=True):
    """A reference that is not updated though it leads to nothing here: file, spot, text, and what to do."""

    source: str
    spot: str
    text: str
    why: str


class SettingChange(msgspec.Struct, frozen=True):
    """A setting of the application: its file and key, what it says (empty for nothing), and what it is to say."""

    file: Path
    key: str
    old: str
    new: str

    @property
    def old_or_none(self) -> str | None:
        """What it says; None for nothing."""
        return self.old or None


class ReferencePlan(msgspec.Struct, frozen=True):
    """What happens to a library's references: how many are unchanged, which are updated, which are lost."""

    stay: int = 0
    updates: tuple[Repoint, ...] = ()
    lost: tuple[ByHand, ...] = ()
    unread: tuple[tuple[str, str], ...] = ()


class RestorePlan(Value, msgspec.Struct, frozen=True, eq=False):
    """What restoring one library means.

    `files` are all that belong in the place afterwards, `existing` says what becomes of each and of what is in the way.
    `folders` are (path, time in ns, mode), deepest last; `links` are (path, target, time in ns).
    `listed` counts the files that the records list, whether they are there or not;
    `renamed` maps an archived path to the one it gets here, where these differ. `references` and `settings` are
    what will be updated; `as_archived` is what the library was, to be compared afterwards. `damage` is what is not proven
    of the archive's records; `old_place` what will still name where it was.

    Two plans are equal if they decide the same (`decisions`). What changes by itself stands beside that: `room` and
    `target`, and `stamp`, which changes if the archive is changed meanwhile.
    """

    _document: ClassVar[str] = "restore.PlannedRestore"

    chest: Chest
    bag: str
    record: LibraryRecord
    kind: Kind
    options: RestoreOptions
    placement: Placement
    files: tuple[RestoreFile, ...]
    outside_files: tuple[RestoreOutsideFile, ...]
    folders: tuple[tuple[str, int, int], ...]
    links: tuple[tuple[str, str, int], ...]
    hard_links: tuple[tuple[str, ...], ...]
    not_done: tuple[NotDone, ...]
    renamed: tuple[tuple[str, str], ...]
    listed: int
    existing: Existing
    as_archived: AsArchived
    room: Room
    target: Target
    parts: tuple[Part, ...] = ()
    references: ReferencePlan = msgspec.field(default_factory=ReferencePlan)
    settings: tuple[SettingChange, ...] = ()
    settings_left: tuple[SettingChange, ...] = ()
    findings: tuple[Finding, ...] = ()
    damage: tuple[RecordFault, ...] = ()
    old_place: OldPlace = NO_OLD_PLACE
    stamp: tuple[object, ...] = ()

    def decisions(self) -> dict[str, Any]:
        """Return all that the plan decides, as JSON values: two plans with the same do the same."""
        existing = self.existing
        actions = {
            "new": [file.path for file in existing.writes],
            "already here": [file.path for file in (*existing.same, *existing.rewritten)],
            "left as it is here": [file.path for file in existing.kept],
            "replaced": [file.path for file in existing.replaced],
            "under another name": [f"{file.path} -> {other}" for file, other in existing.beside],
            "joined": [file.path for file in existing.merged],
        }
        proofs = sorted((file.path, file.source, file.size, file.proof[1].hex()) for file in self.files)
        return {
            "library": self.bag,
            "archived": self.record.archived,
            "edition": self.record.edition,
            "place": str(self.place) if self.place is not None else None,
            "in the way": existing.mode,
            "set aside": [[str(old), str(new)] for old, new in existing.set_aside],
            "files": {what: len(paths) for what, paths in actions.items()},
            "each file": digest_of_values([proofs, {what: sorted(paths) for what, paths in actions.items()}]),
            "outside files": [
                [outside_file.origin, str(outside_file.place), outside_file.there]
                for outside_file in self.outside_files
            ],
            "links": digest_of_values([list(map(list, self.links)), list(map(list, self.folders))]),
            "references": digest_of_values([[r.source, r.spot, r.old, r.new] for r in self.references.updates]),
            "references to write": len(self.references.updates),
            "settings": [[str(s.file), s.key, s.old, s.new] for s in self.settings],
            "blocked_by": sorted(f"{f.code}: {f.message}" for f in self.findings if f.severity == "blocks"),
        }

    @property
    def part_titles(self) -> tuple[str, ...]:
        """Titles of the parts asked for; empty for the whole library."""
        return tuple(part.title for part in self.parts)

    @property
    def file_count(self) -> int:
        """Number of the library's files to restore."""
        return len(self.files)

    @property
    def folder_count(self) -> int:
        """Number of folders."""
        return len(self.folders)

    @property
    def link_count(self) -> int:
        """Number of symbolic links."""
        return len(self.links)

    @property
    def would_run(self) -> bool:
        """Whether nothing blocks it."""
        return not blocking(self.findings)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, RestorePlan) and self.decisions() == other.decisions()

    def __hash__(self) -> int:
        return hash((self.chest.id, self.bag, self.record.edition, self.place))

    def __repr__(self) -> str:
        return f"<RestorePlan {self.bag} edition {self.record.edition} to {self.place}: {len(self.files)} files>"

    @property
    def place(self) -> Path | None:
        """Where the library goes."""
        return self.placement.place

    @property
    def bytes(self) -> int:
        """Bytes of the files to restore."""
        return sum(file.size for file in self.files) + sum(
            outside_file.file.size for outside_file in self.outside_files
        )

    @property
    def part_names(self) -> tuple[str, ...]:
        """Names and titles of the parts that are restored; empty for the whole library."""
        return tuple({name: None for part in self.parts for name in (part.name, part.title)})


class RestoreFile(msgspec.Struct, frozen=True, gc=False):
    """A file to restore.

    `source` is its path in the bag, `stored` the one it had below ``data/`` in its edition,
    `path` the one it gets below the place; `blake3` (raw) or else `sha512` (hexadecimal) is
    what its bytes must have (another algorithm stands before it, with a colon).
    `pieces` says that it is to be put together from pieces; `own` is its
    path in the library. `data` says where its data lies, if it has holes.
    """

    source: str
    stored: str
    path: str
    size: int
    mtime_ns: int
    mode: int
    blake3: bytes | None
    sha512: str | None
    pieces: bool = False
    own: str = ""
    data: tuple[int, ...] | None = None

    @property
    def proof(self) -> tuple[str, bytes]:
        """The algorithm by which its bytes are believed, and the digest (raw)."""
        if self.blake3 is not None:
            return "blake3", self.blake3
        algorithm, _, digest = (self.sha512 or "").rpartition(":")
        return algorithm or "sha512", bytes.fromhex(digest)


class RestoreOutsideFile(msgspec.Struct, frozen=True):
    """An outside file to restore: where it was, where it goes, and whether it already exists."""

    file: RestoreFile
    origin: str
    place: Path
    there: bool = False
    #: The folder that is trusted: nothing below it may be a link.
    top: Path | None = None


class NotDone(msgspec.Struct, frozen=True):
    """Something in an archive that is not restored: its path, and why.

    `fault` says whether that is a fault; a link out of the library is none. `damage` says that it is one of the chest: the
    file is missing there, or is not what was archived; `closed` that this user may not read it.
    """

    path: str
    why: str
    fault: bool
    damage: bool = False
    closed: bool = False


#: What a file gets whose mode is not known: what the umask allows.
NO_MODE = -1
