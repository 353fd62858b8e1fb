"""Read what a bag says of its library: what its files refer to and what its parts are, in any edition.

The readers want a folder with the library's names. For the current edition that is ``data/library/``
itself. For an earlier one, or where names had to change, the few files that hold references are put
into a folder of their own first, each proven by its digest.
"""

from __future__ import annotations

import os
import tempfile
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

import msgspec
from blake3 import blake3

from dunechest.chest import editions
from dunechest.chest.bag_records import BagRecords
from dunechest.chest.layout import DATA, DATA_FOLDER, LIBRARY_FILES, LIBRARY_FOLDER
from dunechest.chest.origin import old_path
from dunechest.chest.records import LibraryRecord
from dunechest.errors import DuneChestError
from dunechest.library.kinds.patterns import Patterns
from dunechest.library.kinds.schema import Kind
from dunechest.library.parts import Part, list_parts
from dunechest.library.references.open_formats import candidates, with_open_formats
from dunechest.library.references.reading import Reference, ReferenceReport, read_references
from dunechest.model.restore import RestoreFile
from dunechest.names import from_wire, parents, why_unsafe
from dunechest.paths import can_be_here
from dunechest.transfer import patient, safe
from dunechest.transfer.walk import FileEntry, FolderEntry, Walk

#: Bytes of the files that are put aside to be read; a library with more of them is read where it lies.
_MOST = 8 << 30


class BagTree(msgspec.Struct, frozen=True):
    """A library in its bag: a folder in which its files of references can be read, and what is in it.

    `kind` has the references of its own, and those found in files of open formats.
    """

    root: Path
    listing: Walk
    report: ReferenceReport
    parts: tuple[Part, ...]
    kind: Kind

    @property
    def references(self) -> tuple[Reference, ...]:
        """What its files refer to, as far as a bag alone tells where that leads."""
        return self.report.references


@contextmanager
def bag_tree(
    bag: Path, record: LibraryRecord, kind: Kind, files: Sequence[RestoreFile], home: Path
) -> Iterator[BagTree]:
    """Have a library's references read in its bag while the block runs.

    Parameters
    ----------
    bag : Path
        The bag's folder.
    record : LibraryRecord
        The edition.
    kind : Kind
        The library's kind, as this computer knows it.
    files : sequence of RestoreFile
        The files of that edition, with their own paths.
    home : Path
        What ``~`` stands for.
    """
    listing = _listing(record, files)
    readable = {entry.path for entry in candidates(kind, listing.files)}
    own = _readable(kind)
    wanted = [file for file in files if file.own in readable or own.match(file.own)]
    plain = all(file.source == DATA + LIBRARY_FILES + file.own and not file.pieces for file in wanted)
    if plain or sum(file.size for file in wanted) > _MOST or not wanted:
        yield _tree(bag / DATA_FOLDER / LIBRARY_FOLDER, listing, kind, home, record)
        return
    with tempfile.TemporaryDirectory(prefix="dunechest-") as scratch:
        _put_aside(bag, Path(scratch), wanted)
        yield _tree(Path(scratch), listing, kind, home, record)


def _tree(root: Path, listing: Walk, kind: Kind, home: Path, record: LibraryRecord) -> BagTree:
    former = old_path(record) if record.origin.system != "windows" and from_wire(record.origin.path) else ""
    if record.shape == "folder":
        kind = with_open_formats(kind, root, listing.files)
    report = read_references(kind, root, listing, home, former=former)
    parts = list_parts(kind, root, listing, report.references, home, former=former)
    return BagTree(root, listing, report, parts, kind)


def _readable(kind: Kind) -> Patterns:
    """Return the patterns of all files that something is read from."""
    patterns = [pattern for spec in kind.references for pattern in spec.files]
    patterns += [pattern for part in kind.parts if part.form != "folders" for pattern in part.paths]
    patterns += [pattern for agreement in kind.agreements for pattern in agreement.files]
    for part in kind.parts:
        if part.named_in:
            patterns.append(part.named_in.replace("{part}", "*"))
            patterns += [f"{folder}/{part.named_in}" for folder in part.paths if "{part}" not in part.named_in]
    return Patterns(patterns)


def _listing(record: LibraryRecord, files: Iterable[RestoreFile]) -> Walk:
    entries = tuple(FileEntry(file.own, file.size, file.mtime_ns, file.mode) for file in files)
    folders = {"": 0}
    for folder in record.folders:
        path = from_wire(folder.path)
        if not path or why_unsafe(path) is None:
            folders[path] = folder.mtime_ns
    for entry in entries:
        for above in parents(entry.path):
            folders.setdefault(above, 0)
    made = tuple(FolderEntry(path, mtime_ns, 0o755, False) for path, mtime_ns in sorted(folders.items()))
    return Walk(tuple(sorted(entries, key=lambda entry: entry.path)), made, (), (), ())


def _put_aside(bag: Path, scratch: Path, files: Iterable[RestoreFile]) -> None:
    places: editions.Places | None = None
    for file in files:
        if not can_be_here(file.own):
            continue  # its name would lead elsewhere
        target = scratch / file.own
        target.parent.mkdir(parents=True, exist_ok=True)
        whole = blake3()
        try:
            with target.open("xb") as out:
                if file.pieces:
                    if places is None:
                        own = BagRecords(bag)
                        places = editions.places_of_bytes(own, editions.current_files(own).records())
                    assert file.blake3 is not None
                    pieces = places.assemble(file.blake3.hex())
                else:
                    pieces = _pieces(bag / file.source)
                for piece in pieces:
                    whole.update(piece)
                    out.write(piece)
        except (OSError, DuneChestError):
            patient.unlink(target, missing_ok=True)
            continue
        if file.blake3 is not None and whole.digest() != file.blake3:
            patient.unlink(target)  # what is damaged is no witness; the restore says that it is


def _pieces(path: Path) -> Iterator[bytes]:
    with os.fdopen(safe.open_regular(path), "rb") as source:
        while piece := source.read(1 << 20):
            yield piece
