"""The JSON records in a chest, one type each. The format page in ``docs/`` says the same in words.

``chest.json``
    `ChestRecord`, about the chest.
``dune/library.json``
    `LibraryRecord`, about one archived library.
``dune/files.jsonl``
    a `FileRecord` a line, about one payload file each.
``dune/editions/NUMBER/library.json``, ``changes.jsonl``
    a `LibraryRecord` of an earlier edition, and an `EarlierFile` a line: in what it differs from the next.
``dune/tags.jsonl``
    a `TagRecord` a line: the second digest of each tag file.
``dune/pending/proven.jsonl``
    a `ProvenRecord` a line: files already on the drive when an archive was interrupted.

Every reader is bounded and checks the format number before it believes the rest.
"""

from __future__ import annotations

import datetime
import os
from collections.abc import Iterator
from pathlib import Path
from typing import Annotated, Any, Literal, TypeVar

import msgspec

from dunechest import clock
from dunechest.errors import ChestUnusableError
from dunechest.names import RawName, shown
from dunechest.transfer import safe
from dunechest.values import frozen

FORMAT = 1


#: Bytes of a line of a list.
LONGEST_LINE = 1 << 20

Name = str | RawName

# What is shown without being looked at again must be of a form that cannot act on a terminal.
Id = Annotated[str, msgspec.Meta(pattern=r"\A[0-9a-f]{32}\Z")]
Moment = Annotated[str, msgspec.Meta(pattern=r"\A[0-9TZ:.+-]{10,40}\Z")]
Plain = Annotated[str, msgspec.Meta(pattern=r"\A[a-z0-9-]{0,80}\Z")]
# Numbers that no file has would end in a system call that cannot take them.
Size = Annotated[int, msgspec.Meta(ge=0, le=1 << 60)]
#: A time in ns. Filesystems hold dates far beyond what 64 bits of nanoseconds count, so there is no bound; what no call of
#: the system takes is met where a file gets its time.
Time = int
Mode = Annotated[int, msgspec.Meta(ge=0, le=0o177777)]
Number = Annotated[int, msgspec.Meta(ge=0, le=1_000_000_000)]
#: What an edition holds, by content (`dunechest.chest.states`); empty in editions of earlier versions.
StateDigest = Annotated[str, msgspec.Meta(pattern=r"\A(?:[0-9a-f]{64})?\Z")]


def when(moment: str) -> float:
    """Return a moment of a record in seconds since 1970.

    Raises
    ------
    ValueError
        If it is none, or does not say in which time zone. A record with such a moment is not one of ours.
    """
    told = datetime.datetime.fromisoformat(moment)
    if told.tzinfo is None:
        raise ValueError(f"{moment} has no time zone")
    try:
        return told.timestamp()
    except OverflowError as error:
        raise ValueError(f"{moment} is out of range") from error


class ChestRecord(msgspec.Struct, frozen=True):
    """``chest.json``; `readable` says that whoever has the drive can read what is on it, private files included."""

    format: int
    id: Id
    label: str
    made: Moment
    made_with: str = ""
    readable: bool = False

    def __post_init__(self) -> None:
        when(self.made)


class Origin(msgspec.Struct, frozen=True):
    """Where a library came from: the computer, the place, and the standard folder it was in.

    `standard` is the name of the standard folder and `relative` the place below
    it; both are empty for a library in none of them.
    """

    machine_id: str
    machine: str
    system: Plain
    path: Name
    standard: Plain = ""
    relative: Name = ""


class FolderRecord(msgspec.Struct, frozen=True):
    """A folder: path in the library (``""`` is the library itself), time in ns, mode, empty or not."""

    path: Name
    mtime_ns: Time
    mode: Mode
    empty: bool = False


class LinkRecord(msgspec.Struct, frozen=True):
    """A symbolic link: path in the library, target as it was written, time in ns."""

    path: Name
    target: Name
    mtime_ns: Time


class ChangedName(msgspec.Struct, frozen=True):
    """A name the drive or a manifest cannot hold: path in the library, path below ``data/library/``."""

    path: Name
    stored: str


class LeftOut(msgspec.Struct, frozen=True):
    """A file that was found and not copied: path, bytes, why, its time in ns, and whether it should have been."""

    path: Name
    size: Size
    why: str
    mtime_ns: Time = 0
    fault: bool = False


class CapturedDatabase(msgspec.Struct, frozen=True):
    """A database that was copied through SQLite: path, and size (bytes) and time (ns) of the original."""

    path: Name
    size: Size
    mtime_ns: Time
    companions: tuple[LeftOut, ...] = ()


class Totals(msgspec.Struct, frozen=True):
    """Counts of the edition: files and bytes found, copied, left out, and files and bytes now in the bag."""

    files_found: Size
    bytes_found: Size
    files_copied: Size
    bytes_copied: Size
    files_left_out: Size
    bytes_left_out: Size
    files_stored: Size
    bytes_stored: Size


class PartRecord(msgspec.Struct, frozen=True):
    """A part that the library had: what such parts are called, name, title, files and bytes."""

    what: str
    name: str
    title: str
    files: Size
    bytes: Size


class OwnerRecord(msgspec.Struct, frozen=True):
    """User and group, by name, of files and folders that belong to others than whoever archived them; empty if not.

    `paths` are those in the library, ``""`` being itself; with none it is for all that no other record names.
    """

    user: str
    group: str
    paths: tuple[Name, ...] = ()


class AttributeRecord(msgspec.Struct, frozen=True):
    """An attribute of files and folders: its name, its value, and which have it.

    ``user.*`` has its value in base64; ``access`` and ``default`` are access lists in words.
    """

    name: str
    value: str
    paths: tuple[Name, ...]


class ReferenceRecord(msgspec.Struct, frozen=True):
    """A reference that leads to an outside file: the file that holds it, where in it, and its text."""

    source: Name
    spot: Name
    text: Name


class OutsideFileRecord(msgspec.Struct, frozen=True):
    """An archived outside file: where it was, its path below ``data/``, bytes, time (ns), and what refers to it.

    `standard` and `relative` say where it was relative to a standard folder, if it was.
    """

    path: Name
    stored: str
    size: Size
    mtime_ns: Time
    references: tuple[ReferenceRecord, ...]
    standard: Plain = ""
    relative: Name = ""


class ReferenceCounts(msgspec.Struct, frozen=True):
    """How many references of the library led where when it was archived.

    `open_formats` says that those found in files of open formats are among them, of which no kind speaks.
    """

    inside: Size = 0
    outside_files: Size = 0
    missing: Size = 0
    away: Size = 0
    open_formats: bool = False


#: Records on a drive call them otherwise, and always will.
_COUNTS = {
    "added_count": "added",
    "changed_count": "changed",
    "moved_count": "moved",
    "dropped_count": "dropped",
    "added_bytes": "bytes_added",
}


class ChangeCounts(msgspec.Struct, frozen=True, rename=_COUNTS):
    """What an edition changed in the one before it: numbers of files, and the bytes it brought to the drive."""

    added_count: Size = 0
    changed_count: Size = 0
    moved_count: Size = 0
    dropped_count: Size = 0
    added_bytes: Size = 0


class CarriedRecord(msgspec.Struct, frozen=True):
    """Files of an edition that could not be seen when it was made, kept as the edition before had them.

    `seen` is the last edition in which they were seen; `why` a word (``away``, ``closed``, ``placeholder``, ``too-large``),
    `place` the folder or drive that was not there. `paths` are those in the library, `outside` the full paths of outside
    files.
    """

    seen: Number
    why: Plain
    place: Name = ""
    paths: tuple[Name, ...] = ()
    outside: tuple[Name, ...] = ()


class PlaceRecord(msgspec.Struct, frozen=True):
    """A folder that files of the library lie in and that another filesystem is mounted in: its full path, and which one.

    `volume` is what the system tells the filesystem by, empty if it tells nothing. While another one, or none, is mounted
    there, what lay below it is away and not deleted.
    """

    path: Name
    volume: str = ""


class SparseRecord(msgspec.Struct, frozen=True):
    """A file with holes: its path below ``data/``, and where its data lies (first byte and bytes of each stretch)."""

    stored: str
    data: tuple[Size, ...]


class LibraryRecord(msgspec.Struct, frozen=True):
    """``dune/library.json``.

    `state` says what the edition holds, by content, and `follows` which states it came after, the latest first. `carried`
    are files that were not seen when it was made. `not_held` are the sorts of things (``links``, ``modes``, ``names`` ...)
    that the place it was archived from cannot hold, so that they are those of the edition before; `sparse` are files with
    holes. A `protected` edition stays whatever a retention rule says, until a person names it.
    """

    format: int
    name: str
    kind: Plain
    kind_title: str
    application: str
    shape: Literal["folder", "file"]
    origin: Origin
    edition: Number
    archived: Moment
    archived_with: str
    totals: Totals
    folders: tuple[FolderRecord, ...] = ()
    links: tuple[LinkRecord, ...] = ()
    hard_links: tuple[tuple[Name, ...], ...] = ()
    changed_names: tuple[ChangedName, ...] = ()
    databases: tuple[CapturedDatabase, ...] = ()
    left_out: tuple[LeftOut, ...] = ()
    parts: tuple[PartRecord, ...] = ()
    partial: tuple[str, ...] = ()
    outside_files: tuple[OutsideFileRecord, ...] = ()
    outside_left: tuple[LeftOut, ...] = ()
    references: ReferenceCounts = ReferenceCounts()
    incomplete: bool = False
    changes: ChangeCounts | None = None
    mass_change: bool = False
    fingerprint: str = ""
    chosen: bool | None = None
    modes: bool = True
    kind_file: dict[str, Any] = {}
    owners: tuple[OwnerRecord, ...] = ()
    attributes: tuple[AttributeRecord, ...] = ()
    state: StateDigest = ""
    follows: tuple[StateDigest, ...] = ()
    carried: tuple[CarriedRecord, ...] = ()
    places: tuple[PlaceRecord, ...] = ()
    not_held: tuple[Plain, ...] = ()
    protected: bool = False
    sparse: tuple[SparseRecord, ...] = ()

    def __post_init__(self) -> None:
        when(self.archived)
        msgspec.structs.force_setattr(self, "kind_file", frozen(self.kind_file))


class FileRecord(msgspec.Struct, frozen=True, gc=False, omit_defaults=True):
    """A payload file: path below ``data/``, bytes, time (ns), mode, BLAKE3 (hexadecimal), role, edition."""

    path: str
    size: Size
    mtime_ns: Time
    mode: Mode
    blake3: str
    role: str = "essential"
    edition: Number = 1


class EarlierFile(msgspec.Struct, frozen=True, gc=False, omit_defaults=True):
    """A line of ``dune/editions/NUMBER/changes.jsonl``: a file as that edition had it, or that it had none.

    Only files in which the edition differs from the next one have a line. The fields are those of `FileRecord`.
    """

    path: str
    absent: bool = False
    size: Size = 0
    mtime_ns: Time = 0
    mode: Mode = 0
    blake3: str = ""
    role: str = "essential"
    edition: Number = 1


class TagRecord(msgspec.Struct, frozen=True):
    """A tag file: path in the bag, bytes, BLAKE3 and SHA-512 (hexadecimal)."""

    path: str
    size: Size
    blake3: str
    sha512: str


class ProvenRecord(msgspec.Struct, frozen=True, gc=False):
    """A file that is on the drive and proven: path below ``data/``, what the source was, digests."""

    path: str
    size: Size
    mtime_ns: Time
    mode: Mode
    blake3: str
    sha512: str


class _Formatted(msgspec.Struct):
    format: int


def encode_pretty(record: msgspec.Struct) -> bytes:
    """Return a record as JSON that a person can read, too."""
    return msgspec.json.format(msgspec.json.encode(record), indent=1) + b"\n"


def encode_line(record: msgspec.Struct) -> bytes:
    """Return a record as one line."""
    return msgspec.json.encode(record) + b"\n"


def format_of(content: bytes) -> int | None:
    """Return the format number that a record has, or None if it has none that can be read."""
    try:
        return msgspec.json.decode(content, type=_Formatted).format
    except (msgspec.MsgspecError, UnicodeDecodeError, RecursionError):
        return None


def newer_words(path: Path, number: int) -> str:
    """Say that a record is of a newer format."""
    return (
        f"{shown(str(path))} is of format {number}, and this version of Dune Chest knows formats up to {FORMAT}. "
        "Nothing was touched. Install a newer version to use it; its files can be read without one."
    )


def decode_library(content: bytes, path: Path) -> LibraryRecord:
    """Decode ``library.json`` of an edition.

    What only describes the library (its parts, references, outside files) is passed over
    where it is not of the right form: the files can be restored without.

    Raises
    ------
    ChestUnusableError
        If it is torn, or of a newer format.
    """
    return _decoded(content, path, LibraryRecord, _DESCRIBING)


_Record = TypeVar("_Record", bound=msgspec.Struct)


_DESCRIBING = (
    "parts",
    "partial",
    "outside_files",
    "outside_left",
    "references",
    "carried",
    "places",
    "not_held",
    "sparse",
)


def _decoded(content: bytes, path: Path, kind: type[_Record], optional: tuple[str, ...] = ()) -> _Record:
    number = format_of(content)
    if number is not None and number > FORMAT:
        raise ChestUnusableError(newer_words(path, number))
    try:
        try:
            return msgspec.json.decode(content, type=kind)
        except msgspec.ValidationError:
            if not optional:
                raise
            return msgspec.convert(_without_odd(msgspec.json.decode(content), kind, optional), kind)
    except (msgspec.MsgspecError, UnicodeDecodeError, RecursionError, AttributeError) as error:
        raise ChestUnusableError(f"{shown(str(path))} is damaged or not a record: {shown(str(error))}.") from error


def _without_odd(raw: dict[str, Any], kind: type[msgspec.Struct], optional: tuple[str, ...]) -> dict[str, Any]:
    """Leave out optional fields that are not of the right form."""
    types = {field.encode_name: field.type for field in msgspec.structs.fields(kind)}
    kept = dict(raw)
    for name in optional:
        try:
            msgspec.convert(raw.get(name, ()), types[name])
        except msgspec.ValidationError:
            kept.pop(name, None)
    return kept


def read_lines(path: Path, kind: type[Any]) -> Iterator[tuple[int, Any]]:
    """Yield line numbers (from 1) and records of a JSON-lines file.

    A line that is torn or not of the kind comes as None, so that the rest is still used.

    Raises
    ------
    OSError
        If the file cannot be read.
    """
    decoder = msgspec.json.Decoder(kind)
    with os.fdopen(safe.open_regular(path), "rb") as file:
        number = 0
        while line := file.readline(LONGEST_LINE):
            number += 1
            if not line.strip():
                continue
            try:
                yield number, decoder.decode(line)
            except (msgspec.MsgspecError, UnicodeDecodeError, RecursionError):
                yield number, None


def now_text() -> str:
    """Return the present moment in UTC, as RFC 3339 writes it."""
    return datetime.datetime.fromtimestamp(clock.now(), datetime.UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
