"""What a restore meets in its place, and what becomes of it: nothing existing is ever lost."""

from __future__ import annotations

import os
import stat
from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Literal

from dunechest.chest.records import LibraryRecord
from dunechest.findings import Finding
from dunechest.jobs.landing import RestoreChoice
from dunechest.jobs.protected import why_protected
from dunechest.jobs.restore_contents import RestoreFile
from dunechest.library.formats.base import Unread
from dunechest.library.formats.keyed import document_of, values
from dunechest.library.formats.sqlite import COMPANIONS
from dunechest.library.join.files import joins_of
from dunechest.library.kinds.patterns import Patterns
from dunechest.library.kinds.schema import Kind
from dunechest.names import from_wire, quoted, shown, slug, why_unsafe
from dunechest.transfer.crew import Crew
from dunechest.transfer.tasks import DigestTask
from dunechest.transfer.walk import each_file, walk
from dunechest.words import number

Mode = Literal["free", "set-aside", "join", "stop"]


@dataclass(slots=True)
class Meeting:
    """What becomes of what is there, and of each file of the library.

    `writes` are new here; `same` are here already, byte for byte; `kept` stay as they are here though the
    chest has other bytes; `replaced` get the chest's bytes, and the ones here are kept; `beside` come under another
    name; `joined` are made one of both; `set_aside` are old and new paths of what gets out of the way.
    """

    mode: Mode
    writes: list[RestoreFile] = field(default_factory=list)
    same: list[RestoreFile] = field(default_factory=list)
    kept: list[RestoreFile] = field(default_factory=list)
    replaced: list[RestoreFile] = field(default_factory=list)
    beside: list[tuple[RestoreFile, str]] = field(default_factory=list)
    joined: list[RestoreFile] = field(default_factory=list)
    set_aside: list[tuple[Path, Path]] = field(default_factory=list)
    findings: list[Finding] = field(default_factory=list)
    #: Files that are here as an earlier restore has written them anew.
    anew_already: list[RestoreFile] = field(default_factory=list)
    #: Paths of files that were there before, by their names here.
    existing: set[str] = field(default_factory=set)


def aside_name(place: Path, day: str, taken: Collection[Path] = ()) -> Path:
    """Return the name under which something is set aside: with the day, and a number if that is taken."""
    stem, ending = (place.stem, place.suffix) if place.is_file() else (place.name, "")
    for count in range(1, 10_000):
        mark = day if count == 1 else f"{day} {count}"
        other = place.with_name(f"{stem[:180]} (set aside {mark}){ending}")
        if not os.path.lexists(other) and other not in taken:
            return other
    raise AssertionError("ten thousand things were set aside in one day")


def meet(
    place: Path,
    record: LibraryRecord,
    kind: Kind,
    files: Sequence[RestoreFile],
    choice: RestoreChoice,
    label: str,
    tell: Callable[[int], None],
) -> Meeting:
    """Look at what is in a place, and decide about it as was chosen. Nothing is changed."""
    blocked = _blocked(place)
    if blocked is not None:
        return Meeting("stop", list(files), findings=[blocked])
    if not os.path.lexists(place) or (record.shape == "folder" and _is_folder(place) and nothing_in(place)):
        return Meeting("free", list(files))
    if choice.existing == "set-aside":
        if why := why_protected(place, choice.home_folder):
            return Meeting("stop", list(files), findings=[_protected(place, why, record)])
        return Meeting("set-aside", list(files), set_aside=[(place, aside_name(place, choice.day))])
    if choice.existing == "stop":
        return Meeting("stop", list(files), findings=[_occupied(place, record, files)])
    fits = _is_folder(place) if record.shape == "folder" else stat.S_ISREG(place.lstat().st_mode)
    if not fits:
        words = f"{shown(str(place))} is not a {record.shape}, so the library cannot be joined into it."
        what = Finding(
            "occupied", "stop", words, "Use --existing set-aside, or restore elsewhere with --into FOLDER."
        )
        return Meeting("stop", list(files), findings=[what])
    return _Join(place, record, kind, files, choice, label, tell).meeting()


def _protected(place: Path, why: str, record: LibraryRecord) -> Finding:
    name = from_wire(record.origin.path).replace("\\", "/").rstrip("/").rpartition("/")[2] or record.name
    return Finding(
        "protected-place",
        "stop",
        f"{shown(str(place))} is not set aside: {shown(why)}.",
        "--into names the folder that becomes the library itself, not the folder it is put into. To have it in there: "
        f"--into {quoted(str(place / name))}",
    )


def nothing_in(place: Path, working: str = "") -> bool:
    """Whether a folder is empty, but for what is worked in and what a filesystem itself puts in its top folder."""
    own = {working} | ({"lost+found"} if os.path.ismount(place) else set())
    return not set(os.listdir(place)) - own


def _is_folder(place: Path) -> bool:
    return stat.S_ISDIR(place.lstat().st_mode)


def _blocked(place: Path) -> Finding | None:
    parent = place.parent
    while not os.path.lexists(parent):
        parent = parent.parent
    if parent.is_dir():
        return None
    what = f"{shown(str(parent))} is in the way: it is not a folder."
    return Finding("occupied", "stop", what, "Rename it, or restore elsewhere with --into FOLDER.")


def _occupied(place: Path, record: LibraryRecord, files: Sequence[RestoreFile]) -> Finding:
    """Say that something is there, and what it looks like."""
    looks = ""
    if record.shape == "folder" and _is_folder(place):
        sizes = {file.path: file.size for file in files}
        there = {entry.path: entry.size for entry in each_file(str(place))}
        alike = sum(sizes.get(path) == size for path, size in there.items())
        if alike:
            looks = f" {number(alike, 'file')} of {len(files):,} have the same name and size in both."
        else:
            looks = f" It holds {number(len(there), 'file')}, none of them like those of this library."
    return Finding(
        "occupied",
        "stop",
        f"Something is already in {shown(str(place))}, and nothing existing is ever overwritten.{looks}",
        "Choose what becomes of it: --existing set-aside renames it with today's date, --existing join adds only what "
        "is missing; or restore elsewhere with --into FOLDER.",
    )


class _Join:
    def __init__(
        self,
        place: Path,
        record: LibraryRecord,
        kind: Kind,
        files: Sequence[RestoreFile],
        choice: RestoreChoice,
        label: str,
        tell: Callable[[int], None],
    ) -> None:
        self._place = place
        self._record = record
        self._kind = kind
        self._files = files
        self._choice = choice
        self._label = slug(label)
        self._tell = tell
        self._found = Meeting("join")
        self._listing = walk(str(place))
        self._sizes = {entry.path: entry.size for entry in self._listing.files}
        self._times = {entry.path: entry.mtime_ns for entry in self._listing.files}
        self._gone: set[str] = set()
        self._others: set[str] = set()
        self._instead: dict[str, str] = {}
        self._taken = {one.path for one in self._listing.folders}
        self._taken |= {one.path for one in self._listing.links} | {one.path for one in self._listing.others}
        self._beside = aside_name(place.with_name(f"{place.name} half-made"), choice.day)
        databases = {from_wire(one.path) for one in record.databases}
        self._databases = {file.own for file in files if kind.database_patterns.match(file.own)} | databases

    def meeting(self) -> Meeting:
        """Decide about every file."""
        found = self._found
        if self._record.shape == "file":
            self._sizes = {self._files[0].path: self._place.lstat().st_size} if self._files else {}
            self._times = {self._files[0].path: self._place.lstat().st_mtime_ns} if self._files else {}
        else:
            self._half_made()
        found.existing = set(self._sizes) - self._gone
        others = ({one.path for one in self._listing.links} | {one.path for one in self._listing.others}) - self._gone
        folders = {folder.path for folder in self._listing.folders if folder.path} - self._gone
        candidates = []
        for file in self._files:
            blocked = self._blocked(file.path, others, folders)
            if blocked and self._choice.prefer == "here":
                found.kept.append(file)
            elif blocked:
                # What is here stays what it is, and what comes gets another name: a whole folder the same one.
                found.beside.append((file, self._around(file.path, blocked)))
            elif file.path in found.existing:
                candidates.append(file)
            else:
                found.writes.append(file)
        alike = [file for file in candidates if self._sizes[file.path] == file.size]
        same = self._same(alike)
        gone = self._half_there(same)
        for file in candidates:
            if file.path in gone:
                found.writes.append(file)
            elif file.path in same:
                found.same.append(file)
            else:
                self._differs(file)
        return found

    def _blocked(self, path: str, others: set[str], folders: set[str]) -> str:
        """Return the path that is something else here than it is in the archive; empty if there is none."""
        pieces = path.split("/")
        for count in range(1, len(pieces)):
            above = "/".join(pieces[:count])
            if above in others or above in self._found.existing:
                return above
        return path if path in others or path in folders else ""

    def _around(self, path: str, blocked: str) -> str:
        """Return a path that leads around what has the name of a file, or of a folder above it."""
        other = self._instead.get(blocked)
        if other is None:
            other = self._instead[blocked] = self._other_name(blocked)
        return other + path[len(blocked) :]

    def _at(self, path: str) -> Path:
        return self._place if self._record.shape == "file" else self._place / path

    def _same(self, files: list[RestoreFile]) -> set[str]:
        """Read what has the same name and size, and return what has the same bytes."""
        total = sum(file.size for file in files)
        found = set()
        with Crew.for_job(len(files), total, (self._place,), self._tell) as crew:
            for file, outcome in crew.digest_each(files, lambda file: file.size, self._digest_task):
                if outcome.state == "ok" and outcome.digests == (file.proof[1],):
                    found.add(file.path)
        return found

    def _digest_task(self, file: RestoreFile) -> DigestTask:
        return DigestTask(os.fsencode(self._at(file.path)), file.size, (file.proof[0],))

    def _differs(self, file: RestoreFile) -> None:
        """Decide about a file that is there with other bytes."""
        found, prefer = self._found, self._choice.prefer
        if self._kind.rebuildable.match(file.own):
            found.kept.append(file)  # the application makes it again from what is there
        elif joins_of(self._kind, file.own) is not None:
            found.joined.append(file)
        elif prefer == "here":
            found.kept.append(file)
        elif prefer == "chest" or (prefer == "newer" and file.mtime_ns > self._times[file.path]):
            found.replaced.append(file)
        elif prefer == "newer":
            found.kept.append(file)
        elif file.own in self._databases:
            found.findings.append(
                Finding(
                    "not-joinable",
                    "stop",
                    f"{shown(file.own)} is a database that is there with other contents, and its kind "
                    f"({shown(self._kind.name)}) does not say how two of them become one.",
                    "Decide which one counts with --prefer here, chest or newer (the other is kept); or use "
                    "--existing set-aside.",
                )
            )
        else:
            found.beside.append((file, self._other_name(file.path)))

    def _other_name(self, path: str) -> str:
        above, _, name = path.rpartition("/")
        stem, dot, ending = name.rpartition(".")
        if not stem or len(ending) > 12:
            stem, dot, ending = name, "", ""
        for count in range(1, 100_000):
            mark = f"from {self._label}" if count == 1 else f"from {self._label} {count}"
            other = f"{stem[:150]} ({mark}){dot}{ending}"
            other = f"{above}/{other}" if above else other
            if other not in self._sizes and other not in self._others and other not in self._taken:
                self._others.add(other)
                return other
        raise AssertionError("a hundred thousand files of one name")

    def _half_made(self) -> None:
        """Set aside what the application has begun and not finished, so that what is whole can take its place."""
        coming = {file.own for file in self._files}
        for path in sorted(self._kind.half_made.among(self._sizes)):
            if path not in coming:
                self._found.set_aside.append((self._place / path, self._beside / path))
                self._gone.add(path)
        self._sizes = {path: size for path, size in self._sizes.items() if path not in self._gone}

    def _half_there(self, same: set[str]) -> set[str]:
        """Set aside folders that hold nothing but pieces of what comes whole from the chest; return their files.

        A title of which half is downloaded agrees with no descriptor, nor would it with both halves in it.
        """
        gone: set[str] = set()
        coming = {file.own: file for file in self._files}
        for spec in self._kind.agreements:
            for path in Patterns(spec.files).among(coming):
                folder = _folder_named(self._place / path, spec.form, spec.folder)
                inside = [file for file in self._files if folder and file.own.startswith(folder + "/")]
                there = {p: s for p, s in self._sizes.items() if folder and p.startswith(folder + "/")}
                if not inside or not there:
                    continue
                # What has something of its own is a person's; what is as it should be is only added to.
                if set(there) <= {file.path for file in inside} and not set(there) <= same:
                    self._found.set_aside.append((self._place / folder, self._beside / folder))
                    gone.update(there)
        self._found.existing -= gone
        return gone


def _folder_named(descriptor: Path, form: str, key: str) -> str:
    try:
        document = document_of(descriptor, form)
    except Unread:
        return ""
    folder = next((text for _, text in values(document, tuple(key.split(".")), ())), "")
    return folder if why_unsafe(folder) is None else ""


def companions_here(path: Path) -> list[Path]:
    """Return what SQLite keeps beside a database that is about to be replaced: it must not speak for the new one."""
    return [Path(str(path) + ending) for ending in COMPANIONS if os.path.lexists(str(path) + ending)]
