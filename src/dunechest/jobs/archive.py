"""Plan an archive: what will be copied, what left out and why, and whether it may be done.

A plan is a plain value. `dunechest.jobs.archiving.carry_out` does what it says.
"""

from __future__ import annotations

import os
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import NamedTuple

from dunechest.chest.chest import Chest
from dunechest.chest.layout import LIBRARY_FILES, LIBRARY_FOLDER, OUTSIDE_FILES, PENDING
from dunechest.chest.stored_names import StoredNames
from dunechest.errors import WordsOff
from dunechest.findings import Finding, weightiest_first
from dunechest.jobs.archive_state import state_in
from dunechest.jobs.changes import Difference, mass_change
from dunechest.jobs.planned import PlannedDatabase, PlannedFile
from dunechest.jobs.study.contents import Contents, study
from dunechest.jobs.study.drive import Drive, examine
from dunechest.jobs.study.drive_findings import drive_findings, holds_findings
from dunechest.jobs.study.library_findings import library_findings
from dunechest.jobs.study.room import headroom, names_findings, room_findings
from dunechest.jobs.study.selection import EVERYTHING, Choice, LeftBehind, Selection, Stray, select
from dunechest.library.library import Library
from dunechest.library.roles import databases_among
from dunechest.machine.drives import Filesystem, Limits
from dunechest.names import is_slug, shown
from dunechest.transfer.walk import FileEntry, Walk, each_file
from dunechest.words import number


@dataclass(frozen=True, slots=True)
class ArchivePlan:
    """What archiving one library means.

    `state` is ``new`` (a bag will be made), ``unchanged`` (the chest has it just so,
    nothing is to be done), ``next`` (the bag gets its next edition) or ``barred`` (something else
    has the name). `need` is what the drive will give up and `free` what it has, in bytes.
    `folders` maps each folder's path in the library to its path below ``data/``; `selection`
    is what was asked for, and `files` are to be read of it, strays included. `previous` says in
    what the library differs from its latest edition, if there is one; `reread` that what
    looks unchanged is read all the same.
    """

    library: Library
    chest: Chest
    bag: str
    state: str
    contents: Contents
    selection: Selection
    drive: Drive
    files: tuple[PlannedFile, ...]
    databases: tuple[PlannedDatabase, ...]
    left_out: tuple[LeftBehind, ...]
    folders: dict[str, str]
    changed_names: dict[str, str]
    hard_links: tuple[tuple[str, ...], ...]
    need: int
    free: int
    findings: tuple[Finding, ...]
    whole_sync: bool
    previous: Difference | None = None
    reread: bool = False
    choice: Choice = EVERYTHING

    @property
    def edition(self) -> int:
        """Number of the edition that will be made, or that is there just so."""
        if self.previous is None:
            return 1
        return self.previous.record.edition + (self.state == "next")

    @property
    def kept(self) -> tuple[PlannedFile, ...]:
        """Files that are in the chest as they are now; strays and databases copied as they are included."""
        return self.previous.kept if self.previous is not None else ()

    @property
    def kept_databases(self) -> tuple[PlannedDatabase, ...]:
        """Databases that are in the chest as they are now."""
        return self.previous.kept_databases if self.previous is not None else ()

    @property
    def listing(self) -> Walk:
        """What was asked for of the library, taken or left out."""
        return self.selection.listing

    @property
    def strays(self) -> tuple[Stray, ...]:
        """Files outside the library that are gathered."""
        return self.selection.strays

    @property
    def _hollow_strays(self) -> list[LeftBehind]:
        inside = {file.path for file in self.listing.files}
        return [one for one in self.left_out if os.path.isabs(one.path) and one.path not in inside]

    @property
    def files_found(self) -> int:
        """Every name that is not a folder or a link, and every stray that was to be gathered."""
        inside = len(self.listing.files) + len(self.listing.others) + len(self.listing.unreadable)
        return inside + len(self.strays) + len(self._hollow_strays)

    @property
    def bytes_found(self) -> int:
        """Bytes of the files found."""
        strays = sum(stray.entry.size for stray in self.strays) + sum(one.size for one in self._hollow_strays)
        return self.listing.bytes + strays

    @property
    def bytes_to_copy(self) -> int:
        """Bytes of the files to copy, as the walk saw them."""
        return sum(f.entry.size for f in self.files) + sum(d.file.entry.size for d in self.databases)


#: Codes of the *stop* findings an archive can meet.
STOP_CODES = frozenset(
    {
        "in-use",
        "half-library",
        "hollow",
        "read-only",
        "mass-change",
        "name-taken",
        "chest-inside",
        "inside-chest",
        "no-room",
        "file-too-large",
        "damaged-archive",
        "chest-damaged",
    }
)


def check_codes(despite: Iterable[str]) -> None:
    """Refuse a code that no finding has: a mistyped one must not look as if it had been heeded.

    Raises
    ------
    WordsOff
        If a code is not one of `STOP_CODES`.
    """
    for code in despite:
        if code not in STOP_CODES:
            known = ", ".join(sorted(STOP_CODES))
            raise WordsOff(f"--despite {shown(code)}: there is no such finding. Codes: {known}.")


def plan_archive(
    libraries: Sequence[Library | Contents],
    chest: Chest,
    *,
    name: str | None = None,
    choice: Choice = EVERYTHING,
    reread: bool = False,
) -> tuple[ArchivePlan, ...]:
    """Plan the archive of one or several libraries to a chest.

    Nothing is changed; what the drive can hold is tried with a few empty files in a
    folder of their own in the chest, which is removed at once.

    Parameters
    ----------
    libraries : sequence of Library
        What to archive; one that was studied already comes as its `Contents`.
    chest : Chest
        Where to.
    name : str, optional
        Name of the bag, for a single library; by default the library's own name.
    choice : Choice
        Which parts and which files.
    reread : bool
        Distrust sizes and times: read every file, and compare its bytes with those archived.

    Returns
    -------
    tuple of ArchivePlan
        One a library. Whether there is room counts all of them together.

    Raises
    ------
    WordsOff
        If `name` cannot be one or is given for several libraries, or a part does not exist.
    CutOff
        If a library or the drive cannot be listed.
    """
    if name is not None and len(libraries) != 1:
        raise WordsOff("--name gives one library another name; archive the others by themselves.")
    if name is not None and not is_slug(name):
        raise WordsOff(f"{shown(name)!r} cannot be a bag's name: use small letters, digits and hyphens.")
    drive = examine(chest)
    plans: list[ArchivePlan] = []
    taken: dict[str, Library] = {}
    promised = 0
    for one in libraries:
        contents = one if isinstance(one, Contents) else study(one)
        plan = _plan_one(contents, choice, chest, drive, name, taken, promised, reread)
        taken[plan.bag] = contents.library
        if plan.state in ("new", "next"):
            promised += plan.need
        plans.append(plan)
    return tuple(plans)


def _plan_one(
    contents: Contents,
    choice: Choice,
    chest: Chest,
    drive: Drive,
    name: str | None,
    taken: dict[str, Library],
    promised: int,
    reread: bool,
) -> ArchivePlan:
    library, place = contents.library, drive.place
    selection = select(contents, choice)
    listing = selection.listing
    left = list(selection.left_out)
    fitting = []
    for entry in selection.files:
        if place.limits.largest is not None and entry.size > place.limits.largest:
            why = f"larger than the {place.type} filesystem can hold"
            left.append(LeftBehind(entry.path, entry.size, why, True, entry.mtime_ns))
        else:
            fitting.append(entry)
    findings = library_findings(contents, selection)
    findings += _places(library, chest)
    databases = databases_among(library.kind, fitting)
    companions = {path: main for main, paths in databases.items() for path in paths}
    names = StoredNames(place.limits)
    names.folders(f.path for f in listing.folders)
    files: list[PlannedFile] = []
    mains: dict[str, PlannedFile] = {}
    beside: dict[str, list[PlannedFile]] = {}
    for entry in fitting:
        stored = names.file(entry.path)
        other = "" if stored == entry.path else LIBRARY_FILES + stored
        file = PlannedFile(entry, contents.roles.get(entry.path, "essential"), other)
        if entry.path in companions:
            beside.setdefault(companions[entry.path], []).append(file)
        elif entry.path in databases:
            mains[entry.path] = file
        else:
            files.append(file)
    captured = tuple(PlannedDatabase(mains[path], tuple(beside.get(path, ()))) for path in sorted(mains))
    files += _stray_files(selection.strays, place.limits)
    bag, state, told, earlier, previous = state_in(selection, library, chest, name, taken, files, captured)
    findings += told
    lines = sum(2 * len(f.stored) for f in files) + sum(2 * len(one.file.stored) for one in captured)
    recorded = Recorded(len(files) + len(captured), lines)
    if previous is not None:
        if reread and state == "unchanged":
            state = "next"
        if state == "next":
            findings += mass_change(previous, library, selection)
        files, captured = list(previous.to_read), previous.to_capture
    need = max(0, _need(files, captured, listing, place, recorded, previous) - _already_there(chest, bag))
    findings += drive_findings(library, chest, drive)
    if state in ("new", "next"):
        findings += room_findings(need, promised, headroom(earlier, need), drive)
        names_needed = len(files) + len(captured) + len(listing.folders) + 16
        findings += names_findings(names_needed, drive)
        findings += _too_large(left, place)
        step = drive.probed.time_step_ns if drive.probed is not None else 1
        coarse = sum(file.entry.mtime_ns % step != 0 for file in files) if step > 1 else 0
        findings += holds_findings(drive, names.changed, len(listing.links), coarse)
    return ArchivePlan(
        library=library,
        chest=chest,
        bag=bag,
        state=state,
        contents=contents,
        selection=selection,
        drive=drive,
        files=tuple(sorted(files, key=lambda f: f.stored)),
        databases=captured,
        left_out=tuple(left),
        folders={f.path: LIBRARY_FILES + names.folder(f.path) if f.path else LIBRARY_FOLDER for f in listing.folders},
        changed_names=dict(names.changed),
        hard_links=_hard_links(fitting),
        need=need,
        free=place.free,
        findings=weightiest_first(findings),
        whole_sync=place.whole_sync,
        previous=previous,
        reread=reread,
        choice=choice,
    )


def _stray_files(strays: Iterable[Stray], limits: Limits) -> list[PlannedFile]:
    """Give strays names that the drive can hold."""
    names = StoredNames(limits)
    names.folders(sorted({stray.stored.rpartition("/")[0] for stray in strays}))
    return [PlannedFile(s.entry, "essential", OUTSIDE_FILES + names.file(s.stored), True) for s in strays]


def _already_there(chest: Chest, bag: str) -> int:
    """Count what a cut-off run has left on the drive: it is taken up again, or cleared away."""
    pending = chest.bag_folder(bag) / PENDING
    return sum(file.size for file in each_file(str(pending)))


def _places(library: Library, chest: Chest) -> list[Finding]:
    """Refuse to archive a chest into itself."""
    source, target = library.path, Path(os.path.realpath(chest.folder))
    if target.is_relative_to(source):
        return [
            Finding(
                "chest-inside",
                "stop",
                f"The chest {shown(str(target))} lies inside what is to be archived.",
                "Name a folder that does not hold the chest.",
            )
        ]
    if source.is_relative_to(target):
        return [
            Finding(
                "inside-chest",
                "stop",
                f"{shown(str(source))} lies inside the chest itself.",
                "Name the library on this machine, not its copy.",
            )
        ]
    return []


class Recorded(NamedTuple):
    """What the records of the edition are about: so many files, and so many characters for their paths in both lists."""

    files: int
    characters: int


def _need(
    files: Iterable[PlannedFile],
    databases: Iterable[PlannedDatabase],
    listing: Walk,
    place: Filesystem,
    recorded: Recorded,
    previous: Difference | None,
) -> int:
    """Count what the drive will give up: whole blocks, records, folders, and what the filesystem keeps for itself.

    `recorded` files have lines in the records, whether they are copied or are there already. The new records lie beside
    the ones before until these are replaced.
    """
    block = max(512, place.block)
    total = 0
    lines = 4096
    every = list(files)
    passing = 0
    for database in databases:
        every.append(database.file)
        with_log = database.file.entry.size + sum(c.entry.size for c in database.companions)
        passing = max(passing, 2 * (-(-with_log // block)) * block)
        every += database.companions
    for file in every:
        total += -(-file.entry.size // block) * block
        # An entry in a folder, and the filesystem's own note of the file.
        lines += len(file.stored) + 512
    for link in listing.links:
        lines += len(link.path) + len(link.target) + 100
    # A line in each of the two lists (with a digest of 64 and of 128 digits), one in the record of the edition for each
    # folder.
    lines += recorded.characters + 360 * recorded.files + sum(len(f.path) + 80 for f in listing.folders)
    if previous is not None:
        # What changed is told once more: in the list of changes, in the lists of tag files, and twice in the journal.
        lines += sum(4 * len(file.stored) + 700 for file in every)
        lines += sum(4 * len(path) + 700 for path in previous.dropped)
    total += len(listing.folders) * block + 16 * block + lines + passing
    return total + total // 200


def _too_large(left: list[LeftBehind], place: Filesystem) -> list[Finding]:
    large = [one for one in left if one.fault and place.limits.largest and one.size > place.limits.largest]
    if not large:
        return []
    return [
        Finding(
            "file-too-large",
            "stop",
            f"{number(len(large), 'file')} larger than the {place.type} filesystem of the drive can hold, "
            f"the first being {shown(large[0].path)}.",
            "Use a drive with another filesystem; or leave them out with --despite file-too-large.",
            yields=True,
        )
    ]


def _hard_links(files: Iterable[FileEntry]) -> tuple[tuple[str, ...], ...]:
    """Group the names of each file that has several in the library."""
    groups: dict[tuple[int, int], list[str]] = {}
    for file in files:
        if file.names > 1:
            groups.setdefault((file.device, file.inode), []).append(file.path)
    return tuple(tuple(paths) for paths in sorted(groups.values()) if len(paths) > 1)
