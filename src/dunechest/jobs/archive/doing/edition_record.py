"""The record of the edition that is made."""

from __future__ import annotations

import os
from collections import Counter
from collections.abc import Iterator
from pathlib import Path

import msgspec

from dunechest.chest import records
from dunechest.chest.layout import LIBRARY_FILES
from dunechest.chest.origin import origin_of
from dunechest.chest.records import (
    CarriedRecord,
    ChangedName,
    FolderRecord,
    LeftOut,
    LibraryRecord,
    LinkRecord,
    Name,
    OutsideFileRecord,
    PartRecord,
    ReferenceCounts,
    ReferenceRecord,
    SparseRecord,
    Totals,
    now_text,
)
from dunechest.chest.states import state_of
from dunechest.jobs.archive.doing.run import Run
from dunechest.library.in_use import points_here
from dunechest.library.kinds.carried import carried
from dunechest.machine.drives import holds_modes
from dunechest.machine.folders import own_home, place_of
from dunechest.model.archive import ArchivePlan
from dunechest.names import from_wire, parents, to_wire
from dunechest.version import version


def record_of_edition(run: Run) -> LibraryRecord:
    """Return the record of the edition that a run makes."""
    plan = run.plan
    kept: set[str] = set()
    if plan.stored_names:
        kept.update(path.removeprefix(LIBRARY_FILES) for path in run.proven)
        kept.update(stored.removeprefix(LIBRARY_FILES) for stored in plan.folders.values())
    previous = plan.previous
    record = LibraryRecord(
        format=records.FORMAT,
        name=plan.library.name,
        kind=plan.library.kind.name,
        kind_title=plan.library.kind.title,
        application=plan.library.kind.application,
        shape=plan.library.shape,
        origin=origin_of(plan.library.path),
        edition=plan.edition,
        # What a second chest is given in the same run is the same edition there: a copy between the two knows it by this.
        archived=run.archived or now_text(),
        archived_with=version(),
        totals=_totals(run),
        folders=(
            *(FolderRecord(to_wire(f.path), f.mtime_ns, f.mode, f.empty) for f in plan.listing.folders),
            *(previous.carried_folders if previous is not None else ()),
        ),
        links=(
            *(LinkRecord(to_wire(k.path), to_wire(k.target), k.mtime_ns) for k in plan.listing.links),
            *(previous.carried_links if previous is not None else ()),
        ),
        hard_links=(*(tuple(to_wire(path) for path in group) for group in plan.hard_links), *_groups_carried(run)),
        changed_names=tuple(
            ChangedName(to_wire(path), stored) for path, stored in plan.stored_names.items() if stored in kept
        ),
        databases=tuple(run.captured),
        left_out=tuple(LeftOut(to_wire(o.path), o.size_bytes, o.why, o.mtime_ns, o.fault) for o in run.left),
        parts=_parts(run),
        partial=tuple(sorted(part.name for part in plan.selection.parts)),
        outside_files=_outside_files(run),
        outside_left=tuple(
            LeftOut(to_wire(s.entry.path), s.entry.size, s.why_not, s.entry.mtime_ns)
            for s in plan.selection.outside_not_taken
        ),
        references=_reference_counts(plan),
        incomplete=run.left_faults or plan.lacks > 0,
        changes=run.changes,
        fingerprint=("" if run.left_faults or run.silent or plan.lacks else run.fingerprint),
        chosen=points_here(plan.library.kind, plan.library.path, own_home()),
        modes=holds_modes(plan.library.path) or "modes" in plan.lesser.not_held,
        not_held=plan.lesser.not_held,
        kind_file=carried(plan.library.kind),
        owners=plan.attributes.owners,
        attributes=plan.attributes.attributes,
        mass_change=plan.mass_change,
        carried=_carried(run),
        places=plan.places,
        sparse=_sparse(run),
    )
    state = state_of(record, run.proven.records)
    return msgspec.structs.replace(record, state=state, follows=tuple(s for s in plan.follows if s != state))


def _sparse(run: Run) -> tuple[SparseRecord, ...]:
    """Return which files of the edition have holes: those copied now, and those that the edition before had."""
    found = dict(run.sparse)
    previous = run.plan.previous
    if previous is not None and previous.record.sparse:
        moved = {old: new for new, old in run.moves.items()}
        for item in previous.record.sparse:
            path = moved.get(item.stored, item.stored)
            then, now = previous.files.get(item.stored), run.proven.get(path)
            if now is not None and then is not None and now.record.blake3 == then.record.blake3:
                found.setdefault(path, item.data)
    return tuple(SparseRecord(path, data) for path, data in sorted(found.items()) if path in run.proven)


def _carried(run: Run) -> tuple[CarriedRecord, ...]:
    """Return what could not be seen or read and is as the edition before had it, by the reason."""
    groups: dict[tuple[int, str, str], tuple[list[str], list[str]]] = {}
    for item in run.carried.values():
        if item.stored in run.proven:
            inside, outside = groups.setdefault((item.last_seen_edition, item.why, item.place), ([], []))
            (outside if item.outside else inside).append(item.path)
    return tuple(
        CarriedRecord(seen, why, to_wire(place), tuple(map(to_wire, inside)), tuple(map(to_wire, outside)))
        for (seen, why, place), (inside, outside) in sorted(groups.items())
    )


def _groups_carried(run: Run) -> Iterator[tuple[Name, ...]]:
    """Yield the groups of names of one file that cannot be seen now, any of them."""
    previous = run.plan.previous
    if previous is None or not previous.carried:
        return
    away = {to_wire(item.path) for item in previous.carried if not item.outside}
    for group in previous.record.hard_links:
        if all(path in away for path in group):
            yield group


def _totals(run: Run) -> Totals:
    plan = run.plan
    return Totals(
        plan.found_count,
        plan.found_bytes + run.grown,
        len(run.proven) - len(run.unread),
        run.bytes_taken,
        len(run.left),
        sum(file.size_bytes for file in run.left),
        len(run.proven),
        run.proven.bytes,
    )


def outside_folders(plan: ArchivePlan) -> set[str]:
    """Return the folders below ``data/`` that gathered outside files lie in."""
    now = {file.stored_as.rpartition("/")[0] for file in (*plan.files_to_read, *plan.kept) if file.outside_file}
    return now | {item.stored.rpartition("/")[0] for item in plan.not_seen_files if item.outside}


def carried_folders(plan: ArchivePlan) -> set[str]:
    """Return the folders below ``data/`` of what cannot be seen now, those above them too."""
    found: set[str] = set()
    for item in plan.not_seen_files:
        found.update(folder for folder in parents(item.stored) if folder)
    for folder in plan.previous.carried_folders if plan.previous is not None else ():
        path = from_wire(folder.path)
        found.add(LIBRARY_FILES + plan.stored_names.get(path, path))
    return found


def _outside_files(run: Run) -> tuple[OutsideFileRecord, ...]:
    stored = {
        file.entry.path: file.stored_as for file in (*run.plan.files_to_read, *run.plan.kept) if file.outside_file
    }
    home = Path(os.path.realpath(own_home()))
    found = []
    for outside_file in run.plan.archived_outside_files:
        proven = run.proven.get(stored[outside_file.entry.path])
        if proven is None:
            continue
        standard, relative = place_of(Path(outside_file.entry.path), home) or ("", "")
        found.append(
            OutsideFileRecord(
                to_wire(outside_file.entry.path),
                proven.record.path,
                proven.record.size,
                proven.record.mtime_ns,
                tuple(
                    ReferenceRecord(to_wire(r.source), to_wire(r.spot), to_wire(r.text))
                    for r in outside_file.references
                ),
                standard,
                to_wire(relative),
            )
        )
    away = {item.stored for item in run.carried.values() if item.outside} - {item.stored for item in found}
    before = run.plan.previous.record.outside_files if run.plan.previous is not None else ()
    return (*found, *(item for item in before if item.stored in away and item.stored in run.proven))


def _parts(run: Run) -> tuple[PartRecord, ...]:
    """Return the parts that the library has, each with the number of its files that the edition holds."""
    changed, true = run.plan.stored_names, run.plan.lesser.true
    return tuple(
        PartRecord(
            part.what,
            part.name,
            part.title,
            sum(f"{LIBRARY_FILES}{changed.get(path, path)}" in run.proven for path in map(true, part.files)),
            part.size_bytes,
        )
        for part in run.plan.contents.parts
    )


def _reference_counts(plan: ArchivePlan) -> ReferenceCounts:
    states = Counter(reference.state for reference in plan.contents.references.references)
    return ReferenceCounts(states["inside"], states["outside"], states["missing"], states["away"], True)
