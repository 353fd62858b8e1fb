"""Plan a copy from chest to chest: what is brought over, what is there already, and whether it may be done."""

from __future__ import annotations

import os
from collections.abc import Iterable

import msgspec

from dunechest.chest.bag_entry import BagEntry
from dunechest.chest.bag_records import stamp
from dunechest.chest.chest import Chest
from dunechest.chest.layout import BAGS, PENDING
from dunechest.chest.records import LibraryRecord
from dunechest.errors import DuneChestError, UsageError
from dunechest.findings import Finding, blocking, most_serious_first
from dunechest.jobs.copy.image import Held, Image, held, image_of
from dunechest.jobs.copy.planning.histories import Histories, histories
from dunechest.jobs.copy.planning.same import why_not_same
from dunechest.jobs.copy.planning.sync import sync_new, sync_next
from dunechest.jobs.known.named import get_chest, names_of
from dunechest.jobs.known.own_archives import archived_here
from dunechest.jobs.study.drive import examine
from dunechest.jobs.study.drive_findings import copy_findings, holds_findings
from dunechest.jobs.study.path_length import length_findings
from dunechest.jobs.study.room import headroom, names_findings, room_findings
from dunechest.model.copy import BagChange, CopyPlan, State
from dunechest.model.findings import finding_of
from dunechest.model.study import Drive, Room
from dunechest.names import AnyPath, from_wire, quoted, shown
from dunechest.transfer.walk import each_file


def plan_copy(
    source: Chest | AnyPath, target: Chest | AnyPath, libraries: str | Iterable[str] = ()
) -> tuple[CopyPlan, ...]:
    """Plan the copy of a chest, or of some of its libraries, to another chest. Changes nothing.

    Parameters
    ----------
    source, target : Chest, path or label
        From where, and where to.
    libraries : str or iterable of str
        Names of libraries in the source; by default all of them.

    Returns
    -------
    tuple of CopyPlan
        One a library. Whether there is room counts all of them together.

    Raises
    ------
    UsageError
        If both are the same chest, or there is no such library.
    CutOffError
        If a drive cannot be listed.
    """
    source, target = get_chest(source), get_chest(target)
    _refuse_if_same(source, target)
    names = names_of(libraries)
    entries = [source.bag(name) for name in names] if names else list(source.bags())
    drive = examine(target)
    general = [*_damaged_chest(target), *copy_findings(source, target, drive)]
    plans: list[CopyPlan] = []
    promised = 0
    for entry in {entry.name: entry for entry in entries}.values():
        plan = _plan_one(entry, source, target, drive, general, promised)
        # One that cannot be copied anyway takes no room from another.
        promised += plan.room.need if plan.state in ("new", "next") and not blocking(plan.findings) else 0
        plans.append(plan)
    return tuple(plans)


def _refuse_if_same(source: Chest, target: Chest) -> None:
    if os.path.samefile(source.folder, target.folder):
        raise UsageError(
            f"{shown(source.label)} and {shown(target.label)} are the same chest. Name two different ones."
        )
    if source.id == target.id:
        raise UsageError(
            f"The chests in {shown(str(source.folder))} and {shown(str(target.folder))} have the same id: one was copied by "
            f"hand. Give the copy its own id first: dunechest chest new-id {quoted(str(target.folder.parent))}"
        )


def _damaged_chest(chest: Chest) -> list[Finding]:
    if not chest.faults:
        return []
    fault = chest.faults[0]
    return [
        finding_of("chest-damaged/copy", path=fault.path, chest=chest.label, why=fault.why, folder=str(chest.folder))
    ]


_NO_CHANGE = BagChange()


class _Found(msgspec.Struct, frozen=True):
    """What is to be done with a library: its state, the findings, its image and how the target's bag becomes that."""

    state: State
    findings: tuple[Finding, ...] = ()
    image: Image | None = None
    sync: BagChange = _NO_CHANGE
    editions: tuple[int, ...] = ()
    sizes: tuple[tuple[str, int], ...] = ()


def _plan_one(
    entry: BagEntry, source: Chest, target: Chest, drive: Drive, general: list[Finding], promised: int
) -> CopyPlan:
    stamps = stamp(entry.folder), stamp(target.folder / BAGS / entry.name)
    try:
        found = _look(entry, source, target, drive)
    except DuneChestError as error:
        found = _Found("blocked", (_cannot_be_copied(entry, source, str(error)),))
    findings = [*general, *found.findings]
    need = 0
    if found.image is not None and found.state in ("new", "next"):
        need = max(0, _need(found, drive) - _already_there(target, entry.name))
        findings += room_findings(need, promised, headroom(found.sizes, need), drive)
        findings += names_findings(len(found.sync.bring) + len(found.image.record.folders) + 16, drive)
        paths = [item.path for item in found.sync.bring]
        findings += length_findings(target.bag_folder(entry.name) / PENDING, paths, "path-length/copy")
        findings += _on_this_drive(found.image, drive)
    return CopyPlan(
        source=source,
        target=target,
        name=entry.name,
        state=found.state,
        editions=found.editions,
        findings=most_serious_first(findings),
        sync=found.sync,
        _image=found.image,
        drive=drive,
        room=Room(need, drive.place.free),
        archived_here=archived_here(source, entry),
        _stamps=stamps,
    )


def _look(entry: BagEntry, source: Chest, target: Chest, drive: Drive) -> _Found:
    """Decide what is to be done with one library."""
    if entry.state == "foreign":
        finding = finding_of("foreign", entry=entry.name)
        return _Found("foreign", (finding,))
    if entry.state != "whole":
        raise DuneChestError(entry.why or entry.state)
    for chest in (source, target):
        if entry.name in chest.unfinished:
            raise DuneChestError(
                f"a decided change of it in {shown(chest.label)} waits to be finished: {chest.unfinished[entry.name]}"
            )
    faults = entry.records.faults()
    if faults:
        raise DuneChestError(f"{shown(faults[0].path)}: {shown(faults[0].why)}")
    own = held(entry.records)
    there = next((other for other in target.bags() if other.name == entry.name), None)
    limits = drive.place.limits
    if there is None or there.state == "unfinished":
        image = image_of(own, limits)
        return _Found(
            "new", (), image, sync_new(image, own, readable=target.record.readable), image.numbers, _sizes(own)
        )
    return _onto(entry, own, source, there, target, drive)


def _onto(entry: BagEntry, own: Held, source: Chest, there: BagEntry, target: Chest, drive: Drive) -> _Found:
    """Decide what is to be done with a library that the target has already."""
    if there.state == "foreign":
        finding = finding_of("name-taken/copy", target=target.label, entry=entry.name)
        return _Found("blocked", (finding,))
    faults = there.records.faults() if there.is_ours else ()
    if there.state != "whole" or faults:
        why = f"{shown(faults[0].path)}: {shown(faults[0].why)}" if faults else there.why
        finding = finding_of(
            "damaged-archive/in-target", there=there.name, target=target.label, why=why, source=source.label
        )
        return _Found("blocked", (finding,))
    mine = held(there.records)
    if (other := why_not_same(own, mine)) is not None:
        return _by_states(own, mine, source, target, drive, other)
    if mine.record.edition > own.record.edition:
        return _newer(own.record, mine.record, source, target, there.name)
    return _next(own, mine, drive, readable=target.record.readable)


def _next(own: Held, mine: Held, drive: Drive, *, readable: bool) -> _Found:
    """Say how a bag gets the editions that it lacks."""
    image = image_of(own, drive.place.limits, mine)
    sync = sync_next(image, own, mine, readable=readable)
    editions = tuple(n for n in image.numbers if n not in mine.numbers)
    if not editions and not any(item.path not in sync.lost for item in sync.bring) and not sync.moved:
        sync = BagChange(tuple(item for item in sync.bring if item.path in sync.lost), lost=sync.lost)
        return _Found("next" if sync.lost else "unchanged", (), image, sync)
    return _Found("next", (), image, sync, editions, _sizes(own))


def _newer(ours: LibraryRecord, theirs: LibraryRecord, source: Chest, target: Chest, bag: str) -> _Found:
    finding = finding_of(
        "newer-there",
        target=target.label,
        name=bag,
        edition=theirs.edition,
        source=source.label,
        edition_2=ours.edition,
    )
    return _Found("newer", (finding,))


def _by_states(own: Held, mine: Held, source: Chest, target: Chest, drive: Drive, why: str) -> _Found:
    """Decide by their states about two bags whose numbers do not mean the same."""
    found = histories(own, mine)
    name = own.own.bag.name
    relation = found.relation
    if relation == "same":
        same = finding_of("own-archive", target=target.label, name=name)
        return _Found("unchanged", (same,))
    if relation == "ahead":
        return _newer(own.record, mine.record, source, target, own.own.bag.name)
    if relation == "behind":
        told = _Found("next")
        done = _next(found.appended(), mine, drive, readable=target.record.readable)
        left = found.only_source[:-1]
        if left:
            between = finding_of(
                "editions-between",
                source=source.label,
                states=len(left),
                name=name,
                target=target.label,
                editions=", ".join(map(str, left)),
            )
            told = _Found("next", (between,))
        return msgspec.structs.replace(done, findings=told.findings)
    if relation == "diverged":
        return _Found("blocked", (_diverged(own, mine, found, source, target),))
    other = finding_of("other-history", name=name, target=target.label, why=why)
    return _Found("blocked", (other,))


def _diverged(own: Held, mine: Held, found: Histories, source: Chest, target: Chest) -> Finding:
    """Say that two copies went on from a common state in different ways."""
    if own.record.origin.machine_id != mine.record.origin.machine_id:
        return finding_of(
            "diverged/two-computers",
            bag=own.own.bag.name,
            source=source.label,
            states=_states(found.only_source),
            target=target.label,
            states_2=_states(found.only_target),
            called=_called(own.record),
        )
    return finding_of(
        "diverged",
        bag=own.own.bag.name,
        source=source.label,
        states=_states(found.only_source),
        target=target.label,
        states_2=_states(found.only_target),
        called=_called(own.record),
    )


def _called(record: LibraryRecord) -> str:
    """Return how a command on this computer calls a library: by its folder, if it is there."""
    place = from_wire(record.origin.path)
    return place if os.path.lexists(place) else record.name


def _states(numbers: tuple[int, ...]) -> str:
    return f"{'edition' if len(numbers) == 1 else 'editions'} {', '.join(map(str, numbers))}"


def _cannot_be_copied(entry: BagEntry, source: Chest, why: str) -> Finding:
    if entry.state == "unfinished":
        return finding_of("unfinished/copy", name=entry.name, source=source.label)
    return finding_of("damaged-archive/in-source", name=entry.name, source=source.label, why=why)


def _sizes(own: Held) -> tuple[tuple[str, int], ...]:
    """Return moment and bytes of each edition that can be read: how the library has grown."""
    records = [own.own.edition(n) for n in own.numbers[:-1]]
    return tuple((record.archived, record.totals.bytes_stored) for record in (*records, own.record))


def _need(found: _Found, drive: Drive) -> int:
    """Count what the drive will give up: whole blocks, the records once more, and what the filesystem keeps for itself."""
    assert found.image is not None
    block = max(512, drive.place.block)
    total = sum(-(-item.size // block) * block + len(item.path) + 512 for item in found.sync.bring)
    total += sum(joined.kept.about.size // 2 for joined in found.image.joined)
    if not found.image.verbatim:
        total += sum(2 * len(path) + 360 for path in found.image.files)
        total += sum(len(line) for lines in found.image.lines.values() for line in lines)
    total += (len(found.image.record.folders) + 16) * block
    total += sum(2 * (len(old) + len(new)) + 100 for old, new in found.sync.moved.items())
    return total + total // 200


def _already_there(target: Chest, bag: str) -> int:
    """Count what an interrupted run has left on the drive: it is taken up again, or cleared away."""
    return sum(file.size for file in each_file(str(target.bag_folder(bag) / PENDING)))


def _on_this_drive(image: Image, drive: Drive) -> list[Finding]:
    findings = []
    place = drive.place
    large = [
        path
        for path in image.files
        if place.limits.largest is not None and image.files.size(path) > place.limits.largest
    ]
    if large:
        findings.append(finding_of("file-too-large/copy", files=len(large), filesystem=place.type, first=large[0]))
    step = drive.probed.time_step_ns if drive.probed is not None else 1
    coarse = sum(p.record.mtime_ns % step != 0 for p in image.files.by_path()) if step > 1 else 0
    changed = [from_wire(item.path) for item in image.record.changed_names]
    return [*findings, *holds_findings(drive, changed, len(image.record.links), coarse)]
