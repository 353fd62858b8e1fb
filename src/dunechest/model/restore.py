"""What restoring is asked for, plans, and did."""

from __future__ import annotations

import datetime
import os
from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING, Any, ClassVar, Literal, NamedTuple, get_args

import msgspec
from msgspec.structs import asdict

from dunechest.chest.bag_entry import BagEntry
from dunechest.chest.chest import Chest
from dunechest.chest.records import LibraryRecord
from dunechest.chest.tag_lists import RecordFault
from dunechest.errors import UsageError
from dunechest.findings import Finding, blocking
from dunechest.library.kinds.schema import Kind
from dunechest.library.parts import Part
from dunechest.library.still_named import NO_OLD_PLACE, OldPlace
from dunechest.machine.folders import own_home
from dunechest.model.parts import NeedsRoom
from dunechest.model.study import Room
from dunechest.names import from_wire
from dunechest.values import MovedPath, RenamedPath, SetAside, Value, digest_of_values

if TYPE_CHECKING:
    pass

IfExists = Literal["refuse", "set-aside", "merge"]


OnConflict = Literal["keep-both", "keep-mine", "keep-archived", "keep-newer"]


class RestoreOptions(msgspec.Struct, frozen=True):
    """What a person chose for a restore.

    Parameters
    ----------
    home : path, optional
        Whose home it goes into; one's own by default.
    into : path, optional
        The folder it becomes, exactly.
    edition : int, optional
        Which edition; the current one by default.
    parts : tuple of str
        Only these parts; everything if empty.
    files : tuple of str
        Only these files or folders, by path or pattern; everything if empty. They are added to what is there.
    if_exists : {"refuse", "set-aside", "merge"}
        What to do if something is there already.
    on_conflict : {"keep-both", "keep-mine", "keep-archived", "keep-newer"}
        When merging, which of two different files of the same name to keep.
    outside_links : bool, optional
        Whether links out of the library are made; by default if this computer made the bag.
    repoint : bool
        Whether references are updated.
    settings : bool, optional
        Whether the application's setting is written; by default if it names nothing that exists.
    day : str
        The day that names what is set aside; today by default.
    places : tuple of pairs
        Folders of another computer and what stands for them here, beside those that are remembered.
    apart : bool
        Whether nothing that is on this computer already stands for a file of the archive: a drill has to bring back all of
        it.

    Raises
    ------
    UsageError
        If two of them exclude each other.
    """

    home: str | os.PathLike[str] | None = None
    into: str | os.PathLike[str] | None = None
    edition: int | None = None
    parts: tuple[str, ...] = ()
    if_exists: IfExists = "refuse"
    on_conflict: OnConflict = "keep-both"
    outside_links: bool | None = None
    repoint: bool = True
    settings: bool | None = None
    day: str = ""
    places: tuple[tuple[str, str], ...] = ()
    files: tuple[str, ...] = ()
    apart: bool = False

    def __post_init__(self) -> None:
        for name in ("home", "into"):
            given = getattr(self, name)
            msgspec.structs.force_setattr(self, name, os.fspath(given) if given is not None else None)
        msgspec.structs.force_setattr(
            self, "parts", (self.parts,) if isinstance(self.parts, str) else tuple(self.parts)
        )
        msgspec.structs.force_setattr(
            self, "files", (self.files,) if isinstance(self.files, str) else tuple(self.files)
        )
        pairs = tuple((str(old), str(new)) for old, new in self.places)
        msgspec.structs.force_setattr(self, "places", pairs)
        msgspec.structs.force_setattr(self, "day", self.day or today())
        if self.home is not None and self.into is not None:
            raise UsageError("--home and --into exclude each other: name a home, or exactly one folder.")
        if self.if_exists not in get_args(IfExists):
            raise UsageError(f"{self.if_exists!r} is not one of {', '.join(get_args(IfExists))}.")
        if self.on_conflict not in get_args(OnConflict):
            raise UsageError(f"{self.on_conflict!r} is not one of {', '.join(get_args(OnConflict))}.")
        if self.files and (self.parts or self.if_exists == "set-aside"):
            raise UsageError(
                "--file adds single files to what is there: it does not go with --part or --if-exists set-aside."
            )
        if self.on_conflict != "keep-both" and self.mode != "merge":
            raise UsageError("--on-conflict only applies when merging: add --if-exists merge.")

    @property
    def mode(self) -> IfExists:
        """What becomes of what is there: single files are always added to it."""
        return "merge" if self.files else self.if_exists

    @property
    def home_folder(self) -> Path:
        """The home it goes into."""
        return Path(os.path.abspath(self.home)) if self.home is not None else own_home()

    def to_dict(self) -> dict[str, Any]:
        """Return the options as JSON values."""
        return asdict(self)


def today() -> str:
    """Return the present day, as names of what is set aside have it."""
    return datetime.datetime.now().astimezone().date().isoformat()


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
    set_aside: tuple[SetAside, ...] = ()
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
    def conflicts(self) -> tuple[RenamedPath, ...]:
        """Files that get another name here, and that name."""
        return tuple(RenamedPath(file.path, other) for file, other in self.beside)


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

    _told: ClassVar[tuple[str, ...]] = ("file", "spot", "old", "new")

    file: str
    spec: int
    spot: str
    old: str
    new: str


class ByHand(msgspec.Struct, frozen=True):
    """A reference that is not updated though it leads to nothing here: file, spot, text, and what to do."""

    file: str
    spot: str
    text: str
    action: str


class SettingChange(msgspec.Struct, frozen=True):
    """A setting of the application: its file and key, what it says (empty for nothing), and what it is to say."""

    _told: ClassVar[tuple[str, ...]] = ("file", "key", "old", "new")

    file: Path
    key: str
    old_text: str
    new: str

    @property
    def old(self) -> str | None:
        """What it says; None for nothing."""
        return self.old_text or None


class ReferencePlan(msgspec.Struct, frozen=True):
    """What happens to a library's references: how many are unchanged, which are updated, which are lost."""

    stay: int = 0
    updates: tuple[Repoint, ...] = ()
    lost: tuple[ByHand, ...] = ()
    unread: tuple[tuple[str, str], ...] = ()


class RestorePlan(NeedsRoom, Value, msgspec.Struct, frozen=True, eq=False):
    """What restoring one library means.

    `files` are all that belong in the place afterwards, `existing` says what becomes of each and of what is in the way.
    `folders` are (path, time in ns, mode), deepest last; `links` are (path, target, time in ns). `listed` counts the files
    that the records list, whether they are there or not; `renamed` maps an archived path to the one it gets here, where these
    differ. `references` and `settings` are what will be updated; `as_archived` is what the library was, to be compared
    afterwards. `damaged_records` is what is not proven of the archive's records; `old_place` what will still name where it
    was.

    Two plans are equal if they decide the same (`decisions`). What changes by itself stands beside that: `room` and
    `target`, and `stamp`, which changes if the archive is changed meanwhile.
    """

    _told: ClassVar[tuple[str, ...]] = (
        "name",
        "edition",
        "path",
        "path_known_by",
        "parts",
        "partial",
        "file_count",
        "size_bytes",
        "folder_count",
        "link_count",
        "if_exists",
        "set_aside",
        "existing_count",
        "kept_paths",
        "replaced_paths",
        "renamed_conflicts",
        "merged_paths",
        "outside_files",
        "unchanged_reference_count",
        "updated_references",
        "references_by_hand",
        "settings",
        "unchanged_settings",
        "needed_bytes",
        "free_bytes",
        "not_restored",
        "damaged_records",
        "renamed",
        "old_place",
        "findings",
        "would_run",
    )
    _rows: ClassVar[str] = "not_restored"

    chest: Chest
    name: str
    record: LibraryRecord
    kind: Kind
    options: RestoreOptions
    placement: Placement
    files: tuple[RestoreFile, ...]
    outside_files: tuple[RestoreOutsideFile, ...]
    folders: tuple[tuple[str, int, int], ...]
    links: tuple[tuple[str, str, int], ...]
    hard_links: tuple[tuple[str, ...], ...]
    not_restored: tuple[NotDone, ...]
    renamed: tuple[RenamedPath, ...]
    listed: int
    existing: Existing
    as_archived: AsArchived
    room: Room
    target: Target
    chosen_parts: tuple[Part, ...] = ()
    references: ReferencePlan = msgspec.field(default_factory=ReferencePlan)
    settings: tuple[SettingChange, ...] = ()
    unchanged_settings: tuple[SettingChange, ...] = ()
    findings: tuple[Finding, ...] = ()
    damaged_records: tuple[RecordFault, ...] = ()
    old_place: OldPlace = NO_OLD_PLACE
    stamp: tuple[object, ...] = ()

    @property
    def edition(self) -> int:
        """Which state of the library."""
        return self.record.edition

    @property
    def path_known_by(self) -> str:
        """What tells where it goes."""
        return self.placement.how

    @property
    def partial(self) -> tuple[str, ...]:
        """Parts that alone were archived; empty for all."""
        return self.record.partial

    @property
    def if_exists(self) -> str:
        """What is done about what is in the way."""
        return self.existing.mode

    @property
    def set_aside(self) -> tuple[SetAside, ...]:
        """What is moved out of the way, and where to."""
        return self.existing.set_aside

    @property
    def existing_count(self) -> int:
        """Number of files that are there already."""
        return self.existing.there

    @property
    def kept_paths(self) -> tuple[str, ...]:
        """Files that are left as they are here."""
        return self.existing.kept_paths

    @property
    def replaced_paths(self) -> tuple[str, ...]:
        """Files that are replaced."""
        return self.existing.replaced_paths

    @property
    def renamed_conflicts(self) -> tuple[RenamedPath, ...]:
        """Files that get another name beside those that are here."""
        return self.existing.conflicts

    @property
    def merged_paths(self) -> tuple[str, ...]:
        """Files that are merged with those that are here."""
        return self.existing.merged_paths

    @property
    def unchanged_reference_count(self) -> int:
        """Number of references that stay as they are."""
        return self.references.stay

    @property
    def updated_references(self) -> tuple[Repoint, ...]:
        """References that are updated."""
        return self.references.updates

    @property
    def references_by_hand(self) -> tuple[ByHand, ...]:
        """References that a person has to look at."""
        return self.references.lost

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
            "library": self.name,
            "archived": self.record.archived,
            "edition": self.record.edition,
            "place": str(self.path) if self.path is not None else None,
            "in the way": existing.mode,
            "set aside": [[str(old), str(new)] for old, new in existing.set_aside],
            "files": {what: len(paths) for what, paths in actions.items()},
            "each file": digest_of_values([proofs, {what: sorted(paths) for what, paths in actions.items()}]),
            "outside files": [
                [outside_file.path, str(outside_file.new_path), outside_file.exists]
                for outside_file in self.outside_files
            ],
            "links": digest_of_values([list(map(list, self.links)), list(map(list, self.folders))]),
            "references": digest_of_values([[r.file, r.spot, r.old, r.new] for r in self.references.updates]),
            "references to write": len(self.references.updates),
            "settings": [[str(s.file), s.key, s.old_text, s.new] for s in self.settings],
            "blocked_by": sorted(f"{f.code}: {f.message}" for f in self.findings if f.severity == "blocks"),
        }

    @property
    def parts(self) -> tuple[str, ...]:
        """Titles of the parts asked for; empty for the whole library."""
        return tuple(part.title for part in self.chosen_parts)

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
        return hash((self.chest.id, self.name, self.record.edition, self.path))

    def __repr__(self) -> str:
        return f"<RestorePlan {self.name} edition {self.record.edition} to {self.path}: {len(self.files)} files>"

    @property
    def path(self) -> Path | None:
        """Where the library goes."""
        return self.placement.place

    @property
    def size_bytes(self) -> int:
        """Bytes of the files to restore."""
        return sum(file.size for file in self.files) + sum(
            outside_file.file.size for outside_file in self.outside_files
        )

    @property
    def part_names(self) -> tuple[str, ...]:
        """Names and titles of the parts that are restored; empty for the whole library."""
        return tuple({name: None for part in self.chosen_parts for name in (part.name, part.title)})


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

    _told: ClassVar[tuple[str, ...]] = ("path", "new_path", "size_bytes", "exists")

    file: RestoreFile
    path: str
    new_path: Path
    exists: bool = False
    #: The folder that is trusted: nothing below it may be a link.
    top: Path | None = None

    @property
    def size_bytes(self) -> int:
        """Its size."""
        return self.file.size


class NotDone(msgspec.Struct, frozen=True):
    """Something in an archive that is not restored: its path, and why.

    `fault` says whether that is a fault; a link out of the library is none. `damage` says that it is one of the chest: the
    file is missing there, or is not what was archived; `closed` that this user may not read it.
    """

    _told: ClassVar[tuple[str, ...]] = ("path", "why", "fault")

    path: str
    why: str
    fault: bool
    damage: bool = False
    closed: bool = False


#: What a file gets whose mode is not known: what the umask allows.
NO_MODE = -1


class MergeResult(Value, msgspec.Struct, frozen=True):
    """The outcome of merging one file: how many entries were `added_count`, and the names of those that `differing`.

    `staged` is the joined file, on its way to its place; None if nothing changed. `taken_out_count` things were taken
    out, where only a part was asked for.
    """

    _shown: ClassVar[tuple[str, ...]] = ("path", "added_count")
    _told: ClassVar[tuple[str, ...]] = ("path", "added_count", "taken_out_count", "differing")

    path: str
    added_count: int
    differing: tuple[str, ...]
    staged: Path | None = None
    taken_out_count: int = 0


class Compared(Value, msgspec.Struct, frozen=True):
    """One check: subject, before, after, passed, details."""

    _shown: ClassVar[tuple[str, ...]] = ("what", "before", "after", "passed")

    what: str
    before: str
    after: str
    passed: bool
    details: tuple[str, ...] = ()


class Proof(Value, msgspec.Struct, frozen=True):
    """What was compared after a restore."""

    _shown: ClassVar[tuple[str, ...]] = ("ok",)

    lines: tuple[Compared, ...]

    @property
    def ok(self) -> bool:
        """Whether everything is as it was."""
        return all(line.passed for line in self.lines)


class UpdatedSetting(NamedTuple):
    """A setting that was updated, or the reason why it was not."""

    file: Path
    key: str
    old: str | None
    new: str
    why_not: str


class RestoreResult(Value, msgspec.Struct, frozen=True):
    """The summary of a restore.

    `file_count` and `size_bytes` are in place and proven, `existing_count` of them were there already; `kept_paths` were left
    as they are here though the chest has other bytes, and `renamed_conflicts` came under another name; `not_restored` lists
    everything of the archive that was not brought back, with the reason; `renamed` what has another name here; `application`
    what keeps such a library, if that is known; `outside_files` says of each file from outside the library where it was and
    where it is now. `set_aside` are old and new places of what was in the way. `updated_references` are references that were
    updated, `references_by_hand` those that a person has to look at, `settings` what was written of the application's, each
    with the reason if it was not. `merged_files` is what merging did; `proof` what the library was and is; `damaged_records`
    what is not proven of the archive's records; `old_place` what still names where it was. `undoable` says whether anything
    was done that could be undone; `single_file_paths` are the paths in the library of those that were asked for, empty if it
    was not for single ones.
    """

    _shown: ClassVar[tuple[str, ...]] = ("name", "path", "file_count", "ok")
    _told: ClassVar[tuple[str, ...]] = (
        "name",
        "edition",
        "path",
        "ok",
        "parts",
        "listed_count",
        "file_count",
        "size_bytes",
        "existing_count",
        "folder_count",
        "link_count",
        "kept_paths",
        "replaced_paths",
        "renamed_conflicts",
        "merged_files",
        "set_aside",
        "outside_files",
        "updated_references",
        "references_by_hand",
        "settings",
        "checks",
        "not_restored",
        "damaged_records",
        "renamed",
        "application",
        "old_place",
        "findings",
        "undoable",
        "single_file_paths",
        "seconds",
    )
    _rows: ClassVar[str] = "not_restored"

    name: str
    path: Path
    edition: int
    listed_count: int
    file_count: int
    size_bytes: int
    existing_count: int
    kept_paths: tuple[str, ...]
    renamed_conflicts: tuple[RenamedPath, ...]
    replaced_paths: tuple[str, ...]
    folder_count: int
    link_count: int
    not_restored: tuple[NotDone, ...]
    renamed: tuple[RenamedPath, ...]
    application: str
    seconds: float
    findings: tuple[Finding, ...]
    proof: Proof
    parts: tuple[str, ...] = ()
    outside_files: tuple[MovedPath, ...] = ()
    set_aside: tuple[SetAside, ...] = ()
    updated_references: tuple[Repoint, ...] = ()
    references_by_hand: tuple[ByHand, ...] = ()
    settings: tuple[UpdatedSetting, ...] = ()
    merged_files: tuple[MergeResult, ...] = ()
    damaged_records: tuple[RecordFault, ...] = ()
    undoable: bool = True
    old_place: OldPlace = NO_OLD_PLACE
    single_file_paths: tuple[str, ...] = ()

    @property
    def checks(self) -> tuple[Compared, ...]:
        """What was compared with what was archived."""
        return self.proof.lines

    @property
    def ok(self) -> bool:
        """Whether everything that could be brought back was, no damage was met, and it is what it was."""
        return not any(item.fault for item in self.not_restored) and not self.damaged_records and self.proof.ok

    @property
    def only_closed(self) -> bool:
        """Whether nothing is wrong but that this user may not read some files of the chest."""
        faults = [item for item in self.not_restored if item.fault]
        return bool(faults) and all(item.closed for item in faults) and not self.damaged_records


class Offer(Value, msgspec.Struct, frozen=True):
    """A library in a chest, and where it would be restored on this computer.

    `editions` are their numbers; `exists` says whether something is in that place; `why_not` why it cannot be
    restored, if it cannot.
    """

    _shown: ClassVar[tuple[str, ...]] = ("why_not", "exists")
    _told: ClassVar[tuple[str, ...]] = (
        "name",
        "kind",
        "editions",
        "archived_at",
        "computer",
        "path",
        "file_count",
        "size_bytes",
        "destination",
        "exists",
        "why_not",
    )

    entry: BagEntry
    editions: tuple[int, ...]
    placement: Placement
    exists: bool
    why_not: str = ""

    @property
    def name(self) -> str:
        """Its name in the chest."""
        return self.entry.name

    @property
    def kind(self) -> str | None:
        """Name of its kind."""
        return self.entry.library.kind if self.entry.library else None

    @property
    def archived_at(self) -> str | None:
        """When it was archived."""
        return self.entry.library.archived if self.entry.library else None

    @property
    def computer(self) -> str | None:
        """Which computer archived it."""
        return self.entry.library.origin.machine if self.entry.library else None

    @property
    def file_count(self) -> int | None:
        """Number of its files."""
        return self.entry.library.totals.files_copied if self.entry.library else None

    @property
    def size_bytes(self) -> int | None:
        """What they hold."""
        return self.entry.library.totals.bytes_stored if self.entry.library else None

    @property
    def destination(self) -> Path | None:
        """Where it would be restored, if that is known."""
        return self.placement.place if self.placement is not None else None

    @property
    def path(self) -> str | None:
        """Where it was, as its own system writes it."""
        return from_wire(self.entry.library.origin.path) if self.entry.library is not None else None


class LeftBehind(NamedTuple):
    """A library of a chest that a restore of all leaves out."""

    name: str
    why: str


class SavedPlan(msgspec.Struct, frozen=True):
    """A plan as it is saved in a file: for which chest and computer, the options, and all decisions."""

    format: int
    chest: str
    machine: str
    options: dict[str, Any] = msgspec.field(name="choice")
    decisions: list[dict[str, Any]]


class MappedPlace(msgspec.Struct, frozen=True):
    """A folder of another computer, and what stands for it here; of any computer if its id is empty."""

    old: str
    new: str
    computer: str = ""
