"""State of a running archive, and the orders to copy its files."""

from __future__ import annotations

import os
from pathlib import Path

import msgspec

from dunechest.chest.file_table import FileTable
from dunechest.chest.layout import PAYLOAD
from dunechest.chest.payload import mode_of
from dunechest.chest.records import CapturedDatabase, ChangeCounts
from dunechest.jobs.archive.doing.supplied import Supplied
from dunechest.jobs.archive.fingerprint import fingerprint
from dunechest.model.archive import ArchivePlan, CarriedFile, PlannedFile
from dunechest.model.study import LeftOutFile
from dunechest.names import from_wire, shown
from dunechest.transfer.tasks import CopyTask
from dunechest.transfer.walk import lines_of
from dunechest.values import PathAndWhy
from dunechest.words import number


class Run(msgspec.Struct, eq=False):
    """What gathers while a plan is carried out.

    `proven` is what the edition will hold, by path below ``data/``. `own_sizes` are the bytes in the
    library of those that have others on the drive; `unread` could not be read now and are as they were.
    """

    plan: ArchivePlan
    bag: Path
    #: Another chest that has the library unchanged; None if there is none.
    supplied: Supplied | None = None
    #: When that one was archived; empty if there is none.
    archived: str = ""
    proven: FileTable = msgspec.field(default_factory=FileTable)
    own_sizes: dict[str, int] = msgspec.field(default_factory=dict)
    unread: set[str] = msgspec.field(default_factory=set)
    left: list[LeftOutFile] = msgspec.field(default_factory=list)
    captured: list[CapturedDatabase] = msgspec.field(default_factory=list)
    again: list[str] = msgspec.field(default_factory=list)
    broken: list[PathAndWhy] = msgspec.field(default_factory=list)
    grown: int = 0
    #: Whether a file was copied in another state than the one it was planned in.
    restless: bool = False
    #: Files that the other chest did not give back as they were.
    not_supplied: set[str] = msgspec.field(default_factory=set)
    resumed: int = 0
    #: New and old path below ``data/`` of what is only renamed.
    moves: dict[str, str] = msgspec.field(default_factory=dict)
    #: Files with other bytes though their size and time are the same.
    silent: list[str] = msgspec.field(default_factory=list)
    changes: ChangeCounts | None = None
    #: Files that had gone from the chest and were copied again, and those that could not be, with the reason.
    healed: list[str] = msgspec.field(default_factory=list)
    lost: list[PathAndWhy] = msgspec.field(default_factory=list)
    #: Files that could not be seen or read, and are as the edition before had them: by path below ``data/``, why.
    carried: dict[str, CarriedFile] = msgspec.field(default_factory=dict)
    #: Where the data of files with holes lies, by path below ``data/``.
    sparse: dict[str, tuple[int, ...]] = msgspec.field(default_factory=dict)
    #: By what the catalogue knows the bag with its latest edition.
    known_as: str = ""
    _fingerprint: str | None = None
    _seen: dict[str, int] | None = None

    def __post_init__(self) -> None:
        self.proven = FileTable(self.plan.previous.files if self.plan.previous is not None else None)

    @property
    def fingerprint(self) -> str:
        """The fingerprint of the library as the plan saw it; empty if something could not be listed."""
        if self._fingerprint is None:
            listing = self.plan.contents.listing
            lines = lines_of(listing)
            own = "" if listing.unreadable else fingerprint(self.plan.library.kind, self.plan.choice, lines)
            self._fingerprint = own
        return self._fingerprint

    @property
    def seen_before(self) -> dict[str, int]:
        """The edition in which files were seen last that the latest edition had not seen, by their own paths."""
        if self._seen is None:
            carried = self.plan.previous.record.carried if self.plan.previous is not None else ()
            self._seen = {from_wire(path): item.seen for item in carried for path in (*item.paths, *item.outside)}
        return self._seen

    def bytes_of(self, path: str) -> int:
        """Bytes in the library of what is proven under a path."""
        return self.own_sizes[path] if path in self.own_sizes else self.proven.size(path)

    def keep_unread(self, file: PlannedFile) -> str:
        """Keep a file that cannot be read now as the edition before has it; return what to say of that, if there is one.

        An archive never holds less of it than before.
        """
        before = self.plan.previous.files.get(file.stored_as) if self.plan.previous is not None else None
        if before is None:
            return ""
        self.proven.keep(file.stored_as)
        self.unread.add(file.stored_as)
        seen = self.seen_before.get(file.entry.path, self.plan.edition - 1)
        self.carried[file.stored_as] = CarriedFile(
            file.stored_as, file.entry.path, before.record.size, file.outside_file, seen, "unread"
        )
        return f"; the archive keeps it as in edition {self.plan.edition - 1}"

    @property
    def bytes_taken(self) -> int:
        """Bytes in the library of what was found in it and is in the edition."""
        total = self.proven.bytes
        total += sum(size - self.proven.size(path) for path, size in self.own_sizes.items() if path in self.proven)
        return total - sum(self.bytes_of(path) for path in self.unread if path in self.proven)

    @property
    def left_faults(self) -> bool:
        """Whether something that should have been taken was not."""
        return any(item.fault for item in self.left)


def cut_off_words(run: Run, why: str) -> str:
    """Say that a run was interrupted, and what is safe."""
    return (
        f"The archive of {shown(run.plan.library.name)} was interrupted: {why}. What was in the chest before is "
        f"untouched; safe on the drive already: {number(len(run.proven), 'file')}. "
        "Run the same command again to continue."
    )


def raw_path(path: str) -> bytes:
    """Return a path as the system has it; the short form of ``os.fsencode``, for many of them."""
    return path.encode("utf-8", "surrogateescape")


def copy_task(file: PlannedFile, source: bytes, payload: bytes, *, readable: bool) -> CopyTask:
    """Return the order to copy one file into the pending payload."""
    entry = file.entry
    mode = mode_of(entry.mode, readable=readable)
    return CopyTask(source, payload + raw_path(file.stored_as), entry.size, entry.mtime_ns, mode)


def task_from(run: Run, file: PlannedFile, source: bytes) -> CopyTask:
    """Return the order to copy one file from another place than its own, such as a captured database."""
    return copy_task(file, source, payload_of(run), readable=run.plan.chest.record.readable)


def task_of(run: Run, file: PlannedFile, payload: bytes) -> CopyTask:
    """Return the order to copy one file, from another chest that has it unchanged, or from the library."""
    found = run.supplied.source(file) if run.supplied is not None else None
    readable = run.plan.chest.record.readable
    if found is None:
        return copy_task(file, source_of(run, file), payload, readable=readable)
    task = copy_task(file, found[0], payload, readable=readable)
    return msgspec.structs.replace(task, expect=bytes.fromhex(found[1]))


def payload_of(run: Run) -> bytes:
    """Return the folder of the pending payload, with a slash at the end."""
    return os.fsencode(run.bag / PAYLOAD) + b"/"


def source_of(run: Run, file: PlannedFile) -> bytes:
    """Return where a file is read from; an outside file's own path is a full one."""
    library = run.plan.library
    if file.outside_file:
        return raw_path(file.entry.path)
    root = os.fsencode(library.path)
    return root if library.shape == "file" else root.rstrip(b"/") + b"/" + raw_path(file.found_at)
