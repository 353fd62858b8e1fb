"""Plan an archive: what will be copied, what left out and why, and whether it may be done."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path

import msgspec
from msgspec.structs import replace

from dunechest.chest.chest import Chest
from dunechest.chest.layout import PAYLOAD
from dunechest.chest.payload import PayloadSizes
from dunechest.chest.records import LibraryRecord, PlaceRecord
from dunechest.errors import UsageError
from dunechest.findings import Finding, most_serious_first
from dunechest.jobs.archive.planning.attributes import gather, with_carried
from dunechest.jobs.archive.planning.destination import Destination, Stored, destination, free_name
from dunechest.jobs.archive.planning.guard import Guard, guard_against
from dunechest.jobs.archive.planning.holes import data_of, hole_findings
from dunechest.jobs.archive.planning.kinds import kind_changed, kind_findings, with_former_kind
from dunechest.jobs.archive.planning.lesser import lesser_place
from dunechest.jobs.archive.planning.lineage import Lineage, lineage
from dunechest.jobs.archive.planning.naming import as_named_before, names_carried, stored_files
from dunechest.jobs.archive.planning.room import already_there, need_of
from dunechest.jobs.archive.planning.surprise import CODE as MASS_CHANGE
from dunechest.jobs.archive.planning.unseen import Unseen, carried_findings, places_of
from dunechest.jobs.known.named import AnyLibrary, get_chest, get_library
from dunechest.jobs.study.contents import study
from dunechest.jobs.study.drive import examine
from dunechest.jobs.study.drive_findings import drive_findings, holds_findings
from dunechest.jobs.study.library_findings import library_findings
from dunechest.jobs.study.path_length import length_findings
from dunechest.jobs.study.room import headroom, names_findings, room_findings
from dunechest.jobs.study.selection import PLACEHOLDER, select
from dunechest.library.library import Library
from dunechest.machine.drives import Filesystem
from dunechest.model.archive import (
    USUAL,
    ArchiveOptions,
    ArchivePlan,
    Attributes,
    Difference,
    PlannedDatabase,
    PlannedFile,
)
from dunechest.model.findings import finding_of
from dunechest.model.study import Contents, Drive, LeftOutFile, NotHeld, Room, Selection
from dunechest.names import AnyPath, from_wire
from dunechest.transfer.walk import FileEntry
from dunechest.values import FrozenDict


def plan_archive(
    libraries: AnyLibrary | Contents | Iterable[AnyLibrary | Contents],
    chest: Chest | AnyPath,
    options: ArchiveOptions = USUAL,
) -> tuple[ArchivePlan, ...]:
    """Plan the archive of one or several libraries to a chest.

    Nothing is changed; what the drive can hold is tried with a few empty files in a
    folder of their own in the chest, which is removed at once.

    Parameters
    ----------
    libraries : Library, path, name, or several of them
        What to archive; one that was studied already comes as its `Contents`.
    chest : Chest, path or label
        Where to.
    options : ArchiveOptions
        What was chosen.

    Returns
    -------
    tuple of ArchivePlan
        One a library. Whether there is room counts all of them together.

    Raises
    ------
    UsageError
        If a name is given for several libraries, or a part does not exist.
    CutOffError
        If a library or the drive cannot be listed.
    """
    return plan_having_looked(libraries, chest, options, {})


def plan_having_looked(
    libraries: AnyLibrary | Contents | Iterable[AnyLibrary | Contents],
    chest: Chest | AnyPath,
    options: ArchiveOptions,
    lying: Mapping[str, PayloadSizes],
) -> tuple[ArchivePlan, ...]:
    """Plan as `plan_archive` does, where it was seen just before what lies in bags of the chest, given by name."""
    chest = get_chest(chest)
    if isinstance(libraries, Library | Contents | str | os.PathLike):
        libraries = (libraries,)
    studied = [
        library if isinstance(library, Contents) else study(with_former_kind(get_library(library), chest))
        for library in libraries
    ]
    if (options.name is not None or options.continues is not None) and len(studied) != 1:
        raise UsageError("--as and --continue are for one library; archive the others separately.")
    drive = examine(chest)
    plans: list[ArchivePlan] = []
    taken: dict[str, Library] = {}
    promised = 0
    for contents in studied:
        plan = _plan_one(contents, chest, drive, options, taken, promised, lying)
        taken[plan.archived_as] = contents.library
        if plan.state in ("new", "next"):
            promised += plan.room.need
        plans.append(plan)
    return tuple(plans)


def _plan_one(
    contents: Contents,
    chest: Chest,
    drive: Drive,
    options: ArchiveOptions,
    taken: Mapping[str, Library],
    promised: int,
    lying: Mapping[str, PayloadSizes],
) -> ArchivePlan:
    lesser = lesser_place(contents, chest, options)
    as_found = select(contents, options.choice)
    selection = lesser.selection(as_found)
    fitting, too_large = _fitting(selection, drive.place)
    stored = stored_files(contents, lesser, selection, fitting, drive.place.limits)
    job = _Job(contents, chest, drive, options, selection, tuple(too_large))
    found = destination(selection, job.library, chest, options, taken, stored, lying, job.unseen)
    if found.previous is not None and (again := as_named_before(stored, found.previous.record)) is not None:
        stored = again
        found = destination(selection, job.library, chest, options, taken, stored, lying, job.unseen)
    attributes, about_attributes = gather(job.library, as_found)
    attributes = Attributes(*lesser.attributes(attributes.owners, attributes.attributes, selection))
    found, attributes = _with_what_is_recorded(job, found, attributes)
    previous = found.previous
    came = Lineage()
    if previous is not None:
        assert found.entry is not None
        came = lineage(job.library, chest, found.entry, previous, options, free_name(found.bag, chest))
    guard = Guard()
    if found.state in ("new", "next") and not selection.parts:
        guard = guard_against(contents, selection, chest, stored, previous, found.bag, job.unseen)
    need = _need(job, found, stored)
    findings = [*about_attributes, *came.findings, *guard.findings, *_findings(job, found, stored, need, promised)]
    return ArchivePlan(
        library=job.library,
        chest=chest,
        archived_as=found.bag,
        state=found.state,
        options=options,
        contents=contents,
        selection=selection,
        files_to_read=tuple(sorted(found.files(stored), key=lambda f: f.stored_as)),
        databases=found.databases(stored),
        skipped=_left_out(job, previous),
        folders=FrozenDict({f.path: stored.folder(f.path) for f in selection.listing.folders}),
        stored_names=FrozenDict(names_carried(previous) | stored.names.changed),
        hard_links=_hard_links(fitting) or _groups_before(lesser),
        findings=most_serious_first(findings),
        drive=drive,
        room=Room(need, drive.place.free),
        previous=previous,
        attributes=attributes,
        places=_mounted(job, previous),
        follows=came.follows,
        protects=came.elsewhere or guard.marked,
        mass_change=guard.marked or any(finding.code == MASS_CHANGE for finding in findings),
        lacks=guard.lacks,
        lesser=lesser,
    )


class _Job(msgspec.Struct, frozen=True):
    """What one library's plan is made of: what was found of it, where it goes, and how."""

    contents: Contents
    chest: Chest
    drive: Drive
    options: ArchiveOptions
    selection: Selection
    too_large: tuple[LeftOutFile, ...]

    @property
    def library(self) -> Library:
        return self.contents.library

    def unseen(self, record: LibraryRecord) -> Unseen:
        """Say of an edition's files whether they cannot be seen now."""
        large = [item.path for item in self.too_large]
        return Unseen(self.library, self.contents, self.selection, self.options.choice, record, large)


def _with_what_is_recorded(job: _Job, found: Destination, attributes: Attributes) -> tuple[Destination, Attributes]:
    """Hold what is recorded beside the files against the latest edition; what was not seen keeps what that has."""
    if found.previous is None:
        return found, attributes
    attributes = with_carried(attributes, found.previous)
    previous = replace(found.previous, recorded=_recorded_otherwise(job.library, attributes, found.previous.record))
    again = found.state == "unchanged" and (job.options.read_all or previous.recorded)
    return replace(found, previous=previous, state="next" if again else found.state), attributes


def _need(job: _Job, found: Destination, stored: Stored) -> int:
    """Return the room a library needs on the drive, in bytes, without what lies there already."""
    files = found.files(stored)
    need = need_of(
        files,
        found.databases(stored),
        job.selection.listing,
        job.drive.place,
        stored.recorded,
        found.previous,
        data_of(job.library, files, job.drive),
    )
    return max(0, need - already_there(job.chest, found.bag))


def _left_out(job: _Job, previous: Difference | None) -> tuple[LeftOutFile, ...]:
    return tuple(_as_kept((*job.selection.left_out, *job.too_large), previous))


def _mounted(job: _Job, previous: Difference | None) -> tuple[PlaceRecord, ...]:
    outside = [item.entry.path for item in job.selection.outside_files]
    return places_of(job.library, outside, previous.record if previous is not None else None)


def _findings(job: _Job, found: Destination, stored: Stored, need: int, promised: int) -> Iterator[Finding]:
    """Yield what there is to say of a library, its chest and its drive, beside what the states and the guard say."""
    library, chest, drive, previous = job.library, job.chest, job.drive, found.previous
    carried = previous.carried if previous is not None else ()
    changed = {item.path for item in _left_out(job, previous) if item.fault}
    yield from library_findings(job.contents, job.selection, {item.path for item in carried} - changed)
    yield from _places(library, chest)
    yield from found.findings
    yield from carried_findings(carried, previous.missed if previous is not None else job.options.forget_absent)
    yield from kind_findings(library, previous.record if previous is not None else None)
    yield from drive_findings(library, chest, drive)
    if found.state in ("new", "next"):
        yield from room_findings(need, promised, headroom(found.earlier, need), drive)
        yield from _of_the_drive(
            found.files(stored), found.databases(stored), chest.bag_folder(found.bag), stored, job.selection, drive
        )
        yield from _too_large(job.too_large, drive.place)


def _of_the_drive(
    files: Sequence[PlannedFile],
    databases: Sequence[PlannedDatabase],
    bag: Path,
    stored: Stored,
    selection: Selection,
    drive: Drive,
) -> Iterator[Finding]:
    """Yield what there is to say of what a drive cannot hold as it is."""
    folders = len(selection.listing.folders)
    yield from names_findings(len(files) + len(databases) + folders + 16, drive)
    paths = [*(file.stored_as for file in files), *(planned.file.stored_as for planned in databases)]
    yield from length_findings(bag / PAYLOAD, paths)
    yield from hole_findings(files, drive)
    yield from holds_findings(drive, stored.names.changed, len(selection.listing.links), _too_fine(files, drive))


def _as_kept(left: Iterable[LeftOutFile], previous: Difference | None) -> Iterator[LeftOutFile]:
    """Yield what is left out; a placeholder is no fault if the archive has its content unchanged."""
    carried = {item.path: item for item in previous.carried} if previous is not None else {}
    for item in left:
        file = carried.get(item.path) if item.fault and item.why == PLACEHOLDER else None
        facts = previous.files.facts(file.stored) if file is not None and previous is not None else None
        if facts is not None and facts[:2] == (item.size_bytes, item.mtime_ns):
            yield replace(item, why=f"{PLACEHOLDER}; the archive keeps it", fault=False)
        else:
            yield item


def _recorded_otherwise(library: Library, attributes: Attributes, before: LibraryRecord) -> tuple[str, ...]:
    """Return what is recorded otherwise than in the latest edition, though it is no file's content."""
    changed = []
    if kind_changed(library.kind, before):
        changed.append("kind")
    if attributes != Attributes(before.owners, before.attributes):
        changed.append("owners and attributes")
    return tuple(changed)


def _fitting(selection: Selection, place: Filesystem) -> tuple[list[FileEntry], list[LeftOutFile]]:
    """Tell the files that the drive's filesystem can hold from those that are too large for it."""
    fitting, too_large = [], []
    for entry in selection.files:
        if place.limits.largest is not None and entry.size > place.limits.largest:
            why = f"larger than the {place.type} filesystem can hold"
            too_large.append(LeftOutFile(entry.path, entry.size, why, True, entry.mtime_ns))
        else:
            fitting.append(entry)
    return fitting, too_large


def _too_fine(files: Sequence[PlannedFile], drive: Drive) -> int:
    """Count the files whose times are finer than the drive can keep."""
    step = drive.probed.time_step_ns if drive.probed is not None else 1
    return sum(file.entry.mtime_ns % step != 0 for file in files) if step > 1 else 0


def _places(library: Library, chest: Chest) -> list[Finding]:
    """Refuse to archive a chest into itself."""
    source, target = library.path, Path(os.path.realpath(chest.folder))
    if target.is_relative_to(source):
        return [finding_of("chest-inside", chest=str(target))]
    if source.is_relative_to(target):
        return [finding_of("inside-chest", path=str(source))]
    return []


def _too_large(large: Sequence[LeftOutFile], place: Filesystem) -> list[Finding]:
    if not large:
        return []
    return [finding_of("file-too-large/archive", files=len(large), filesystem=place.type, first=large[0].path)]


def _groups_before(lesser: NotHeld) -> tuple[tuple[str, ...], ...]:
    """Return the names of one file that the latest edition has, where the place cannot hold such."""
    if lesser.record is None or "modes" not in lesser.not_held:
        return ()
    return tuple(tuple(map(from_wire, group)) for group in lesser.record.hard_links)


def _hard_links(files: Iterable[FileEntry]) -> tuple[tuple[str, ...], ...]:
    """Group the names of each file that has several in the library."""
    groups: dict[tuple[int, int], list[str]] = {}
    for file in files:
        if file.names > 1:
            groups.setdefault((file.device, file.inode), []).append(file.path)
    return tuple(tuple(paths) for paths in sorted(groups.values()) if len(paths) > 1)
