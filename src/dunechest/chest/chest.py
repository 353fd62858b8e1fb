"""A chest: a folder ``dune-chest`` on a drive, with bags in it."""

from __future__ import annotations

import os
import stat
import sys
import time
import uuid
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any, ClassVar

import msgspec

from dunechest.bag.bag import is_bag
from dunechest.chest import chest_record, journal
from dunechest.chest.bag_entry import BagEntry, closed_in, never_whole, of_ours
from dunechest.chest.bag_records import BagRecords, stamp
from dunechest.chest.find_chest import find_chest, is_regular
from dunechest.chest.layout import BAGS, CHEST, CHEST_RECORD, CHEST_SUMS, JOURNAL, READ_ME
from dunechest.chest.lock import locked
from dunechest.chest.records import FORMAT, ChestRecord, now_text
from dunechest.chest.tag_lists import RecordFault
from dunechest.errors import (
    ChestBusyError,
    ChestUnusableError,
    CutOffError,
    DuneChestError,
    RecordDamagedError,
    RefusedError,
    UsageError,
)
from dunechest.names import is_slug, meant, quoted, shown
from dunechest.paths import is_link
from dunechest.transfer import disk, safe
from dunechest.transfer.closed import why_closed
from dunechest.transfer.system_files import is_system_folder
from dunechest.version import version

#: So many times a bag is read again that is changed while it is read.
_TIMES = 5


@contextmanager
def open_to_all(readable: bool) -> Iterator[None]:
    """Have what is made in a block be readable for everybody, whatever this user's umask says; if that is asked for."""
    if not readable or sys.platform == "win32":
        yield
        return
    before = os.umask(0o022)
    try:
        yield
    finally:
        os.umask(before)


class Chest:
    """An open chest.

    Use `Chest.create` or `Chest.open`; opening finishes a change that was interrupted.

    Attributes
    ----------
    folder : Path
        The folder ``dune-chest`` itself.
    record : ChestRecord
        ``chest.json``.
    recovered : tuple of str
        Names of the bags in which an interrupted change was finished on opening.
    unfinished : dict
        Names of the bags in which a decided change could not be finished, and why. They can be read all the same.
    busy : tuple of str
        Names of the bags that another process was changing on opening.
    faults : tuple of RecordFault
        What is damaged of the chest's own records.

    Examples
    --------
    >>> import tempfile
    >>> from dunechest.chest.chest import Chest
    >>> drive = tempfile.mkdtemp()
    >>> made = Chest.create(drive, "blue")
    >>> Chest.open(drive).label
    'blue'
    """

    #: What its document has.
    _told: ClassVar[tuple[str, ...]] = ("id", "label", "folder")

    folder: Path

    def __init__(self, folder: Path, record: ChestRecord, faults: tuple[RecordFault, ...] = ()) -> None:
        self.folder = folder
        self.record = record
        self.faults = faults
        self.recovered: tuple[str, ...] = ()
        self.unfinished: dict[str, str] = {}
        self.busy: tuple[str, ...] = ()

    @property
    def id(self) -> str:
        """The chest's id."""
        return self.record.id

    @property
    def label(self) -> str:
        """The chest's label."""
        return self.record.label

    @property
    def place(self) -> str:
        """Where the chest is, for people: its folder, or its address on a server."""
        return str(self.folder)

    @property
    def is_on_server(self) -> bool:
        """Whether it is on a server, and no drive."""
        return self.place != str(self.folder)

    def look_again(self) -> None:
        """Have nothing believed that was read before: a drive is read each time, of a server some is remembered."""

    def to_dict(self) -> dict[str, Any]:
        """Return which chest it is, as JSON values."""
        return {"id": self.id, "label": self.label, "folder": str(self.folder)}

    def __repr__(self) -> str:
        return f"<Chest {self.label!r} in {str(self.folder)!r}>"

    @classmethod
    def create(cls, drive: str | os.PathLike[str], label: str, *, readable: bool = False) -> Chest:
        """Make a new chest in a folder, usually the mount point of a drive.

        Parameters
        ----------
        drive : path
            An existing folder; the chest becomes ``dune-chest`` in it.
        label : str
            What people call the drive; up to 60 printable characters.
        readable : bool
            On a drive with Unix permissions: whether whoever has the drive can read what is on it, private files included.

        Raises
        ------
        UsageError
            If the folder does not exist or the label is not one.
        RefusedError
            If there already is a chest.
        CutOffError
            If the drive cannot be written to.
        """
        place = Path(drive)
        _check_label(label)
        if not place.is_dir():
            raise UsageError(f"There is no folder {shown(str(place))}. Name the folder where the drive is mounted.")
        folder = place.resolve() / CHEST
        if (place / CHEST_RECORD).exists() or folder.exists():
            raise RefusedError(
                f"{shown(str(place))} already has a chest, or a folder of that name. Nothing was changed. "
                "To use it: dunechest chest show " + shown(str(place))
            )
        record = ChestRecord(FORMAT, uuid.uuid4().hex, label, now_text(), version(), readable)
        beside = folder.with_name(CHEST + safe.BESIDE + "-" + record.id[:8])
        try:
            with open_to_all(readable):
                disk.make_folder(beside / BAGS)
                chest_record.write_chest(beside, record)
            disk.rename(beside, folder)
        except OSError as error:
            raise CutOffError(
                f"Cannot make a chest in {shown(str(place))}: {error.strerror}. No chest was made."
            ) from error
        return cls(folder, record)

    @classmethod
    def open(cls, place: str | os.PathLike[str], *, machine: str = "", finish: bool = True) -> Chest:
        """Open a chest by its folder or the folder it lies in.

        If a change in it was interrupted after it had been decided, it is finished, where that can be done now. Where
        not, or with `finish` false, reading sees the bag as it will be then.

        Raises
        ------
        UsageError
            If there is no chest.
        ChestUnusableError
            If no record tells which chest it is, or it is of a newer format; it is left untouched.
        """
        folder = find_chest(Path(place))
        if folder is None:
            raise UsageError(f"There is no chest in {shown(os.fspath(place))}.")
        chest = cls(folder, *chest_record.read_chest(folder))
        if not (folder / BAGS).is_dir() or is_link(folder / BAGS):
            raise ChestUnusableError(f"The folder {BAGS} is missing in the chest {shown(str(folder))}.")
        if finish:
            chest._recover(machine)
        return chest

    @classmethod
    def rebuild(cls, place: str | os.PathLike[str], label: str | None = None) -> Chest:
        """Make ``chest.json`` again, where it is missing or torn. Never done unasked; no bag is touched.

        Parameters
        ----------
        place : path
            The folder ``dune-chest``, or the one it lies in.
        label : str, optional
            The label; by default what ``READ-ME.txt`` says.

        Raises
        ------
        UsageError
            If there are no bags there, or no label is known.
        RefusedError
            If the record is whole, or of a newer format.
        """
        folders = [folder for folder in (Path(place), Path(place) / CHEST) if (folder / BAGS).is_dir()]
        if not folders:
            raise UsageError(f"There is no folder {BAGS} of a chest in {shown(os.fspath(place))}.")
        folder = folders[0].resolve()
        before: ChestRecord | None = None
        torn = {CHEST_RECORD}
        try:
            before, faults = chest_record.read_chest(folder)
            torn = {fault.path for fault in faults}
            if not faults:
                raise RefusedError(
                    f"The records of the chest in {shown(str(folder))} are intact. Nothing was changed."
                )
        except ChestUnusableError as error:
            if "Install a newer version" in str(error):
                raise
        if label is None and before is None:
            raise UsageError("READ-ME.txt no longer says the chest's label: give one with --label.")
        label = label if label is not None else before.label if before is not None else ""
        _check_label(label)
        if before is not None:
            record = ChestRecord(FORMAT, before.id, label, before.made, before.made_with or version())
        else:
            record = ChestRecord(FORMAT, uuid.uuid4().hex, label, now_text(), version())
        path = folder / CHEST_RECORD
        try:
            # What is torn may still tell somebody something, if nothing else is intact that says the same.
            told = before is not None and (CHEST_RECORD not in torn or READ_ME not in torn)
            if is_regular(path) and not told:
                disk.rename(path, path.with_name(f"chest.json.torn-{now_text()[:10]}"))
            for name in (CHEST_RECORD, READ_ME, CHEST_SUMS):
                _free_name(folder / name)
            chest_record.write_chest(folder, record)
        except OSError as error:
            raise CutOffError(f"{shown(str(path))} cannot be written: {error.strerror}.") from error
        return cls.open(folder)

    def bag_folder(self, name: str) -> Path:
        """Return the folder of a bag by its name, which must be a plain one."""
        if not is_slug(name):
            raise UsageError(
                f"{shown(name)!r} cannot be a library's name in a chest: use letters, digits and hyphens."
            )
        return self.folder / BAGS / name

    def bags(self) -> tuple[BagEntry, ...]:
        """List what lies in ``bags/``, by name."""
        names = sorted(os.listdir(self.folder / BAGS))
        folders = [self.folder / BAGS / name for name in names if not is_system_folder(name)]
        # A person's note beside the bags is no bag, and no fault; nor is what a system puts there.
        return tuple(self._entry(folder.name, folder) for folder in folders if not is_regular(folder))

    def bag(self, name: str) -> BagEntry:
        """Return one bag's entry, by the name of the bag or else of the library in it.

        Raises
        ------
        UsageError
            If there is no such bag, the message listing those there are; or several hold a library of that name.
        """
        entries = self.bags()
        wanted = name.casefold()
        for entry in entries:
            if entry.name == name:
                return entry
        found = [entry for entry in entries if entry.name.casefold() == wanted]
        found = found or [
            entry for entry in entries if entry.library is not None and entry.library.name.casefold() == wanted
        ]
        if len(found) > 1:
            choices = "; ".join(_choice(entry) for entry in found)
            raise UsageError(
                f"The chest {shown(self.label)} holds several libraries called {shown(name)!r}. Name one of these: "
                f"{choices}."
            )
        if found:
            return found[0]
        names = ", ".join(shown(e.name) for e in entries) or "none yet"
        hint = meant(name, (entry.name for entry in entries))
        raise UsageError(f"The chest {shown(self.label)} holds no library {shown(name)!r}.{hint} It holds: {names}.")

    def renamed(self, label: str, machine: str) -> Chest:
        """Give the chest another label. No library is touched.

        Parameters
        ----------
        label : str
            Up to 60 printable characters.
        machine : str
            Name of this computer, for whoever finds the chest being changed.

        Raises
        ------
        UsageError
            If the label is not one.
        RefusedError
            If a record of the chest is damaged, or another process is changing it.
        CutOffError
            If the drive cannot be written to.
        """
        _check_label(label)
        return self._replaced(msgspec.structs.replace(self.record, label=label), machine)

    def with_new_id(self, machine: str) -> Chest:
        """Give the chest an id of its own, where it is a copy of another one; see `renamed`."""
        return self._replaced(msgspec.structs.replace(self.record, id=uuid.uuid4().hex), machine)

    def _replaced(self, record: ChestRecord, machine: str) -> Chest:
        if self.faults:
            raise RefusedError(
                f"Refused: the record {self.faults[0].path} of the chest {shown(self.label)} is damaged. Nothing was changed. "
                f"Rebuild it first: dunechest chest rebuild {quoted(str(self.folder))}"
            )
        with self.changing(machine):
            try:
                chest_record.replace_chest(self.folder, record)
            except OSError as error:
                raise CutOffError(
                    f"The records of the chest {shown(self.label)} cannot be written: {error.strerror}. Run the same command "
                    "again to continue."
                ) from error
        return type(self).open(self.folder, finish=False)

    @contextmanager
    def changing(self, machine: str) -> Iterator[None]:
        """Hold the chest alone while it is changed; see `dunechest.chest.lock`."""
        with locked(self.folder, machine), open_to_all(self.record.readable):
            yield

    def _entry(self, name: str, folder: Path) -> BagEntry:
        for again in range(_TIMES):
            before = stamp(folder)
            entry = self._read_entry(name, folder)
            if entry.state not in ("damaged", "unusable") or stamp(folder) == before:
                break
            time.sleep(0.1 * again)  # another process commits a change just now
        return entry

    def _read_entry(self, name: str, folder: Path) -> BagEntry:
        mode = folder.lstat().st_mode
        if not stat.S_ISDIR(mode) or is_link(folder):
            what = "a link; nothing in a chest is read through one" if is_link(folder) else "not a folder"
            return BagEntry(name, folder, "unusable", why=f"it is {what}")
        if (closed := closed_in(folder)) is not None:
            return BagEntry(name, folder, "unusable", why=f"{closed.name}: {why_closed(closed)}", closed=True)
        records = BagRecords(folder)
        if not of_ours(records):
            if is_bag(folder):
                return BagEntry(name, folder, "foreign")
            if never_whole(folder):
                return BagEntry(name, folder, "unfinished", why="an archive was interrupted here")
            return BagEntry(name, folder, "unusable", why="it is not a bag: bagit.txt is missing")
        try:
            return BagEntry(name, folder, "whole", records.library(), _records=records)
        except RecordDamagedError as error:
            return BagEntry(name, folder, "damaged", why=str(error), _records=records)
        except ChestUnusableError as error:
            return BagEntry(name, folder, "unusable", why=str(error), _records=records)

    def _recover(self, machine: str) -> None:
        """Finish changes that were decided and interrupted; see `dunechest.chest.journal`.

        What cannot be finished now concerns its own bag only, and keeps nobody from reading it.
        """
        done = []
        for name in sorted(os.listdir(self.folder / BAGS)):
            folder = self.folder / BAGS / name
            if is_link(folder) or not os.path.lexists(folder / JOURNAL):
                continue
            try:
                # A process that is at work in the chest has its own journal in hand: ChestBusyError says so.
                with locked(self.folder, machine):
                    if journal.finish(folder):
                        done.append(name)
            except ChestBusyError:
                self.busy = (*self.busy, name)
            except OSError as error:
                self.unfinished[name] = error.strerror or str(error)
            except DuneChestError as error:
                self.unfinished[name] = str(error)
        self.recovered = tuple(done)


def _free_name(path: Path) -> None:
    """Have no folder where a record belongs; everything else is replaced when it is written."""
    if path.is_dir() and not is_link(path):
        try:
            disk.remove_folder(path)
        except OSError:
            disk.rename(path, path.with_name(f"{path.name}.torn-{now_text()[:10]}"))


def _choice(entry: BagEntry) -> str:
    """Say how two libraries of one name are told apart."""
    parts = ", ".join(map(shown, entry.library.partial)) if entry.library is not None else ""
    day = entry.library.archived[:10] if entry.library is not None else ""
    return f"{shown(entry.name)} ({f'only {parts}, ' if parts else ''}archived {day})"


def _check_label(label: str) -> None:
    if not label.strip() or len(label) > 60 or shown(label) != label or label.startswith("-"):
        raise UsageError(
            'A label is 1 to 60 printable characters and does not begin with "-": blue, or "Blue drive, top shelf".'
        )
