"""The last steps of an archive: the records of the new edition, and the change that makes it the current one."""

from __future__ import annotations

import errno
import os
from collections import Counter
from pathlib import Path

from blake3 import blake3

from dunechest.chest import editions, pieces, records
from dunechest.chest.bag_records import BagRecords
from dunechest.chest.commit import commit, commit_new, next_edition_phases, tag_steps
from dunechest.chest.layout import (
    DATA_FOLDER,
    DUNE,
    EARLIER,
    EDITIONS,
    GONE,
    LIBRARY_FILES,
    LIBRARY_FOLDER,
    PAYLOAD,
    PENDING,
    PENDING_TAGS,
    kept_path,
)
from dunechest.chest.records import (
    ChangeCounts,
    ChangedName,
    FolderRecord,
    LeftOut,
    LibraryRecord,
    LinkRecord,
    Origin,
    PartRecord,
    ReferenceCounts,
    ReferenceRecord,
    StrayRecord,
    Totals,
    now_text,
)
from dunechest.chest.tag_lists import Tag
from dunechest.chest.write_tags import write_tags
from dunechest.errors import DuneChestError
from dunechest.jobs.archive import ArchivePlan
from dunechest.jobs.archive_run import Run
from dunechest.jobs.changes import Difference
from dunechest.jobs.glance import fingerprint
from dunechest.ledger.folder import state_folder
from dunechest.library.in_use import points_here
from dunechest.machine.drives import holds_modes
from dunechest.machine.folders import own_home, place_of
from dunechest.machine.identity import this_machine
from dunechest.names import parents, to_wire
from dunechest.transfer import disk
from dunechest.transfer.below import folders_in
from dunechest.transfer.walk import lines_of
from dunechest.version import version


def origin_of(plan: ArchivePlan) -> Origin:
    """Say where a library comes from."""
    machine = this_machine(state_folder())
    place = place_of(plan.library.path, Path(os.path.realpath(own_home())))
    standard, relative = place if place is not None else ("", "")
    return Origin(
        machine.id, machine.name, machine.system, to_wire(str(plan.library.path)), standard, to_wire(relative)
    )


def stray_folders(plan: ArchivePlan) -> set[str]:
    """Return the folders below ``data/`` that gathered strays lie in."""
    return {file.stored.rpartition("/")[0] for file in (*plan.files, *plan.kept) if file.stray}


def finish(run: Run) -> str:
    """Write the records and decide the change; return the digest of the tag manifest."""
    plan, bag = run.plan, run.bag
    copied = sum(map(run.bytes_of, run.taken))
    previous = plan.previous
    if previous is not None:
        run.changes = _changes(run, previous)
    kept: set[str] = set()
    if plan.changed_names:
        kept.update(path.removeprefix(LIBRARY_FILES) for path in run.proven)
        kept.update(stored.removeprefix(LIBRARY_FILES) for stored in plan.folders.values())
    library = LibraryRecord(
        format=records.FORMAT,
        name=plan.library.name,
        kind=plan.library.kind.name,
        kind_title=plan.library.kind.title,
        application=plan.library.kind.application,
        shape=plan.library.shape,
        origin=origin_of(plan),
        edition=plan.edition,
        archived=now_text(),
        archived_with=version(),
        totals=Totals(
            plan.files_found,
            plan.bytes_found + run.grown,
            len(run.proven) - len(run.unread),
            copied,
            len(run.left),
            sum(one.size for one in run.left),
            len(run.proven),
            run.proven.bytes,
        ),
        folders=tuple(FolderRecord(to_wire(f.path), f.mtime_ns, f.mode, f.empty) for f in plan.listing.folders),
        links=tuple(LinkRecord(to_wire(k.path), to_wire(k.target), k.mtime_ns) for k in plan.listing.links),
        hard_links=tuple(tuple(to_wire(path) for path in group) for group in plan.hard_links),
        changed_names=tuple(
            ChangedName(to_wire(path), stored) for path, stored in plan.changed_names.items() if stored in kept
        ),
        databases=tuple(run.captured),
        left_out=tuple(LeftOut(to_wire(o.path), o.size, o.why, o.mtime_ns, o.fault) for o in run.left),
        parts=_parts(run),
        partial=tuple(sorted(part.name for part in plan.selection.parts)),
        strays=_strays(run),
        strays_left=tuple(
            LeftOut(to_wire(s.entry.path), s.entry.size, s.why_not, s.entry.mtime_ns)
            for s in plan.selection.strays_not_taken
        ),
        references=_counts(plan),
        incomplete=run.left_faults,
        changes=run.changes,
        fingerprint=("" if run.left_faults or run.silent else _fingerprint(plan)),
        chosen=points_here(plan.library.kind, plan.library.path, own_home()),
        modes=holds_modes(plan.library.path),
        mass_change=any(finding.code == "mass-change" for finding in plan.findings),
    )
    if previous is None:
        top = write_tags(bag, plan.bag, library, run.proven)
        _flush_folders(run)
        commit_new(bag)
        return top
    return _next_edition(run, previous, library)


def _changes(run: Run, previous: Difference) -> ChangeCounts:
    moved_from = set(run.moves.values())
    before, now = previous.files, run.proven
    return ChangeCounts(
        added=sum(path not in before and path not in run.moves for path in now.own()),
        changed=sum(
            path in before and path not in run.moves and now[path].record.blake3 != before[path].record.blake3
            for path in now.own()
        ),
        moved=len(run.moves),
        dropped=sum(path not in now and path not in moved_from for path in before),
        bytes_added=sum(now.size(path) for path in now.own() if not now.there(path)),
    )


def _next_edition(run: Run, previous: Difference, library: LibraryRecord) -> str:
    """Write the records of both editions, and decide the change from the one to the other."""
    plan, bag = run.plan, run.bag
    number = previous.record.edition
    moved = {old: new for new, old in run.moves.items()}
    leaving = {
        path: kept_path(number, path)
        for path in previous.files
        if path not in moved and (path in run.moves or not run.proven.there(path))
    }
    in_pieces = _in_pieces(run, previous, leaving)
    for path in in_pieces:
        del leaving[path]
    own = BagRecords(bag)
    tags = editions.current_tags(own)
    carried = [tag for path, tag in tags.items() if path.startswith((EDITIONS + "/", EARLIER + "/"))]
    for path, kept in leaving.items():
        proven = previous.files[path]
        carried.append(Tag(kept, proven.record.size, proven.sha512, proven.record.blake3))
    changes = editions.differences(previous.files.records(), run.proven.records())
    folder = f"{EDITIONS}/{number:04d}"
    top = write_tags(
        bag,
        plan.bag,
        library,
        run.proven,
        earlier={
            f"{folder}/library.json": [records.encode_line(previous.record)],
            f"{folder}/changes.jsonl": map(records.encode_line, changes),
        },
        carried=carried,
        archives=in_pieces.values(),
        before=own.told(),
    )
    _flush_folders(run)
    leaving |= {path: f"{GONE}/{at}" for at, path in enumerate(in_pieces)}
    phases = next_edition_phases(
        bag,
        leaving=leaving,
        moved=moved,
        arriving=[path for path in run.proven.own() if not run.proven.there(path)],
        folders={LIBRARY_FOLDER, *plan.folders.values(), *stray_folders(plan)},
        old_folders=_old_folders(previous),
    )
    commit(bag, (*phases, tag_steps(bag)))
    return top


def _in_pieces(run: Run, previous: Difference, leaving: dict[str, str]) -> dict[str, str]:
    """Keep earlier states of large files that changed a little in pieces; return paths of files and of archives.

    An archive is believed only when the earlier state was put together from it.
    """
    bag = run.bag
    large = [
        path
        for path in leaving
        if path in run.proven
        and not run.proven.there(path)
        and pieces.SMALLEST <= previous.files[path].record.size <= pieces.LARGEST
        and run.proven[path].record.size >= pieces.SMALLEST
    ]
    if not large:
        return {}
    own = BagRecords(bag)
    places = editions.places_of_bytes(own, previous.files.records())
    found: dict[str, str] = {}
    every = dict(places.pieces)
    known = {digest for kept in every.values() for digest in kept.pieces}
    for path in large:
        old, new = previous.files[path].record, run.proven[path].record
        name = leaving[path] + pieces.SUFFIX
        target = bag / PENDING_TAGS / name
        disk.make_folder(target.parent)
        if _too_long(target):
            continue  # the archive's name would be longer than the drive allows: the state is kept whole
        disk.remove(target, missing_ok=True)
        arriving = bag / PAYLOAD / path
        about = pieces.About(1, old.size, old.blake3, previous.files[path].sha512, new.blake3)
        if not pieces.keep(bag / DATA_FOLDER / path, about, arriving, target, known.__contains__):
            continue
        made = pieces.kept_in((bag / PENDING_TAGS).joinpath, [name])[old.blake3]
        files = {digest: bag / place for digest, place in places.plain.items()} | {new.blake3: arriving}
        whole = blake3()
        try:
            for piece in pieces.assemble(own.at, made, every.values(), files, own=target):
                whole.update(piece)
        except DuneChestError:
            whole.reset()
        if whole.hexdigest() != old.blake3:  # the old file is damaged, or the drive: keep what is there
            disk.remove(target)
            continue
        every[old.blake3] = made
        known |= made.pieces
        found[path] = name
    return found


def _too_long(target: Path) -> bool:
    """Whether a drive cannot hold a name."""
    try:
        os.lstat(target)
    except FileNotFoundError:
        return False
    except OSError as error:
        return error.errno == errno.ENAMETOOLONG
    return False


def _old_folders(previous: Difference) -> set[str]:
    """Return the folders below ``data/`` that the edition before had."""
    names = {changed.path: changed.stored for changed in previous.record.changed_names}
    found = {LIBRARY_FOLDER}
    for folder in previous.record.folders:
        stored = names.get(folder.path, folder.path)
        if isinstance(stored, str) and stored:
            found.add(f"{LIBRARY_FILES}{stored}")
    for path in previous.files:
        found.update(parents(path))
    return found


def _strays(run: Run) -> tuple[StrayRecord, ...]:
    stored = {file.entry.path: file.stored for file in (*run.plan.files, *run.plan.kept) if file.stray}
    home = Path(os.path.realpath(own_home()))
    found = []
    for stray in run.plan.strays:
        proven = run.proven.get(stored[stray.entry.path])
        if proven is None:
            continue
        standard, relative = place_of(Path(stray.entry.path), home) or ("", "")
        found.append(
            StrayRecord(
                to_wire(stray.entry.path),
                proven.record.path,
                proven.record.size,
                proven.record.mtime_ns,
                tuple(ReferenceRecord(to_wire(r.source), to_wire(r.spot), to_wire(r.text)) for r in stray.references),
                standard,
                to_wire(relative),
            )
        )
    return tuple(found)


def _parts(run: Run) -> tuple[PartRecord, ...]:
    """Return the parts that the library has, each with the number of its files that the edition holds."""
    changed = run.plan.changed_names
    return tuple(
        PartRecord(
            part.what,
            part.name,
            part.title,
            sum(f"{LIBRARY_FILES}{changed.get(path, path)}" in run.proven for path in part.files),
            part.bytes,
        )
        for part in run.plan.contents.parts
    )


def _fingerprint(plan: ArchivePlan) -> str:
    listing = plan.contents.listing
    return "" if listing.unreadable else fingerprint(plan.library.kind, plan.choice, lines_of(listing))


def _counts(plan: ArchivePlan) -> ReferenceCounts:
    states = Counter(reference.state for reference in plan.contents.references.references)
    return ReferenceCounts(states["inside"], states["stray"], states["missing"], states["away"])


def _flush_folders(run: Run) -> None:
    """Bring the names in all new folders to the medium before the change is decided."""
    pending = run.bag / PENDING
    if run.plan.whole_sync and hasattr(os, "O_DIRECTORY"):
        fd = os.open(pending, os.O_RDONLY)
        try:
            if disk.flush_filesystem(fd):
                return
        finally:
            os.close(fd)
    for folder in folders_in(pending):
        disk.flush_folder(folder)
    for above in (run.bag / DUNE, run.bag, run.bag.parent):
        disk.flush_folder(above)
