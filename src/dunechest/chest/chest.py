"""A chest: a folder ``dune-chest`` on a drive, with bags in it."""

from __future__ import annotations

import datetime
import os
import re
import stat
import uuid
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from dunechest.bag.bag import is_bag
from dunechest.chest import journal, records, texts
from dunechest.chest.lock import locked
from dunechest.chest.records import FORMAT, ChestRecord, LibraryRecord
from dunechest.errors import ChestUnusable, CutOff, Refused, WordsOff
from dunechest.names import is_slug, shown
from dunechest.transfer import disk, safe

FOLDER = "dune-chest"
BAGS = "bags"


def version() -> str:
    """Return this library's name and version, as records carry it."""
    from importlib.metadata import PackageNotFoundError
    from importlib.metadata import version as installed

    try:
        return f"dunechest {installed('dunechest')}"
    except PackageNotFoundError:  # run from a source folder
        return "dunechest"


def now_text() -> str:
    """Return the present moment in UTC, as RFC 3339 writes it."""
    return datetime.datetime.now(datetime.UTC).strftime("%Y-%m-%dT%H:%M:%SZ")


@dataclass(frozen=True, slots=True)
class BagEntry:
    """A folder in ``bags/``.

    `state` is ``whole``, ``unfinished`` (an archive was cut off), ``foreign`` (a bag
    that is not of this library's making) or ``unusable``; `why` says more for the last.
    """

    name: str
    folder: Path
    state: str
    library: LibraryRecord | None = None
    why: str = ""


class Chest:
    """An open chest.

    Use `Chest.create` or `Chest.open`; opening finishes a change that was cut off.

    Attributes
    ----------
    folder : Path
        The folder ``dune-chest`` itself.
    record : ChestRecord
        ``chest.json``.
    recovered : tuple of str
        Names of the bags in which a cut-off change was finished on opening.

    Examples
    --------
    >>> import tempfile
    >>> from dunechest.chest.chest import Chest
    >>> drive = tempfile.mkdtemp()
    >>> made = Chest.create(drive, "blue")
    >>> Chest.open(drive).label
    'blue'
    """

    def __init__(self, folder: Path, record: ChestRecord, recovered: tuple[str, ...] = ()) -> None:
        self.folder = folder
        self.record = record
        self.recovered = recovered

    @property
    def id(self) -> str:
        """The chest's id."""
        return self.record.id

    @property
    def label(self) -> str:
        """The chest's label."""
        return self.record.label

    @classmethod
    def create(cls, drive: str | os.PathLike[str], label: str) -> Chest:
        """Make a new chest in a folder, usually the mount point of a drive.

        Parameters
        ----------
        drive : path
            An existing folder; the chest becomes ``dune-chest`` in it.
        label : str
            What people call the drive; up to 60 printable characters.

        Raises
        ------
        WordsOff
            If the folder does not exist or the label is not one.
        Refused
            If there already is a chest.
        CutOff
            If the drive cannot be written to.
        """
        place = Path(drive)
        _check_label(label)
        if not place.is_dir():
            raise WordsOff(f"There is no folder {shown(str(place))}. Name the folder where the drive appears.")
        folder = place.resolve() / FOLDER
        if (place / "chest.json").exists() or folder.exists():
            raise Refused(
                f"{shown(str(place))} already has a chest, or a folder of that name. Nothing was changed. "
                "To use it: dunechest chest show " + shown(str(place))
            )
        record = ChestRecord(FORMAT, uuid.uuid4().hex, label, now_text(), version())
        beside = folder.with_name(FOLDER + safe.BESIDE + "-" + record.id[:8])
        try:
            disk.make_folder(beside / BAGS)
            safe.write_file(beside / "READ-ME.txt", texts.read_me(record))
            safe.write_file(beside / "chest.json", records.encode_pretty(record))
            disk.rename(beside, folder)
        except OSError as error:
            raise CutOff(
                f"A chest cannot be made in {shown(str(place))}: {error.strerror}. No chest is there."
            ) from error
        return cls(folder, record)

    @classmethod
    def open(cls, place: str | os.PathLike[str], *, machine: str = "") -> Chest:
        """Open a chest by its folder or the folder it lies in.

        If a change in it was cut off after it had been decided, it is finished first.

        Raises
        ------
        WordsOff
            If there is no chest.
        ChestUnusable
            If its records are torn, or of a newer format; it is left untouched.
        """
        folder = find_chest(Path(place))
        if folder is None:
            raise WordsOff(f"There is no chest in {shown(os.fspath(place))}.")
        chest = cls(folder, records.read_chest(folder))
        if not (folder / BAGS).is_dir() or (folder / BAGS).is_symlink():
            raise ChestUnusable(f"The folder {BAGS} is missing in the chest {shown(str(folder))}.")
        chest.recovered = chest._recover(machine)
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
        WordsOff
            If there are no bags there, or no label is known.
        Refused
            If the record is whole, or of a newer format.
        """
        folders = [folder for folder in (Path(place), Path(place) / FOLDER) if (folder / BAGS).is_dir()]
        if not folders:
            raise WordsOff(f"There is no folder {BAGS} of a chest in {shown(os.fspath(place))}.")
        folder = folders[0].resolve()
        path = folder / "chest.json"
        if os.path.lexists(path):
            try:
                records.read_chest(folder)
            except ChestUnusable as error:
                if "newer version" in str(error):
                    raise
            else:
                raise Refused(f"The record of the chest in {shown(str(folder))} is whole. Nothing was changed.")
        try:
            text = safe.read_bounded(folder / "READ-ME.txt", 1 << 16).decode("utf-8", "replace")
        except (OSError, ValueError):
            text = ""
        said_label = re.search(r"^  Label of this chest: (.+)$", text, re.MULTILINE)
        said_id = re.search(r"^  Id of this chest:    ([0-9a-f]{32})$", text, re.MULTILINE)
        if label is None and said_label is None:
            raise WordsOff("READ-ME.txt does not say the chest's label any more: give one with --label.")
        label = label if label is not None else said_label.group(1) if said_label is not None else ""
        _check_label(label)
        record = ChestRecord(FORMAT, said_id.group(1) if said_id else uuid.uuid4().hex, label, now_text(), version())
        try:
            if os.path.lexists(path):  # what is torn may still tell somebody something
                disk.rename(path, path.with_name(f"chest.json.torn-{now_text()[:10]}"))
            safe.write_file(path, records.encode_pretty(record))
        except OSError as error:
            raise CutOff(f"{shown(str(path))} cannot be written: {error.strerror}.") from error
        return cls.open(folder)

    def bag_folder(self, name: str) -> Path:
        """Return the folder of a bag by its name, which must be a plain one."""
        if not is_slug(name):
            raise WordsOff(f"{shown(name)!r} cannot be the name of a bag: use letters, digits and hyphens.")
        return self.folder / BAGS / name

    def bags(self) -> tuple[BagEntry, ...]:
        """List what lies in ``bags/``, by name."""
        entries = []
        for name in sorted(os.listdir(self.folder / BAGS)):
            folder = self.folder / BAGS / name
            if stat.S_ISDIR(folder.lstat().st_mode):
                entries.append(self._entry(name, folder))
        return tuple(entries)

    def bag(self, name: str) -> BagEntry:
        """Return one bag's entry.

        Raises
        ------
        WordsOff
            If there is no such bag; the message lists those there are.
        """
        wanted = name.casefold()
        entries = self.bags()
        for entry in entries:
            if entry.name.casefold() == wanted or (
                entry.library is not None and entry.library.name.casefold() == wanted
            ):
                return entry
        names = ", ".join(shown(e.name) for e in entries) or "none yet"
        raise WordsOff(f"The chest {shown(self.label)} holds no library {shown(name)!r}. It holds: {names}.")

    @contextmanager
    def changing(self, machine: str) -> Iterator[None]:
        """Hold the chest alone while it is changed; see `dunechest.chest.lock`."""
        with locked(self.folder, machine):
            yield

    def _entry(self, name: str, folder: Path) -> BagEntry:
        if not is_bag(folder):
            if (folder / journal.PENDING).is_dir() or _hardly_begun(folder):
                return BagEntry(name, folder, "unfinished")
            return BagEntry(name, folder, "unusable", why="it is not a bag: bagit.txt is missing")
        if not (folder / "dune").is_dir():
            return BagEntry(name, folder, "foreign")
        try:
            return BagEntry(name, folder, "whole", records.read_library(folder))
        except ChestUnusable as error:
            return BagEntry(name, folder, "unusable", why=str(error))

    def _recover(self, machine: str) -> tuple[str, ...]:
        """Finish changes that were decided and cut off; see `dunechest.chest.journal`."""
        waiting = []
        for name in sorted(os.listdir(self.folder / BAGS)):
            folder = self.folder / BAGS / name
            if not folder.is_symlink() and (folder / journal.JOURNAL).exists():
                waiting.append((name, folder))
        if not waiting:
            return ()
        done = []
        # A process that is at work in the chest has its own journal in hand: ChestBusy says so.
        with locked(self.folder, machine):
            for name, folder in waiting:
                phases = journal.read(folder)
                if phases is None:
                    continue
                try:
                    journal.carry_out(folder, phases)
                except OSError as error:
                    raise CutOff(
                        f"A change in {shown(name)} was cut off and cannot be finished now: {error.strerror}. "
                        "Every file is on the drive; connect it so that it can be written to."
                    ) from error
                done.append(name)
        return tuple(done)


def _hardly_begun(folder: Path) -> bool:
    """Whether a folder in ``bags/`` is what an archive makes first, and nothing else."""
    return all(path.is_dir() and path.name in ("dune", "pending") for path in folder.rglob("*"))


def find_chest(place: Path) -> Path | None:
    """Return the chest's folder if `place` is one, holds one, or lies at its top; else None."""
    for folder in (place, place / FOLDER):
        try:
            if stat.S_ISREG((folder / "chest.json").lstat().st_mode):
                return folder.resolve()
        except (OSError, ValueError):
            continue
    return None


def _check_label(label: str) -> None:
    if not label.strip() or len(label) > 60 or shown(label) != label:
        raise WordsOff('A label is 1 to 60 printable characters, such as: blue, or "Blue drive, top shelf".')
