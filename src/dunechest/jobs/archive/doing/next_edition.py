"""The change from one edition to the next: what leaves, what is renamed, what arrives."""

from __future__ import annotations

import errno
import os
from pathlib import Path

import msgspec
from blake3 import blake3

from dunechest.chest import editions, pieces, records
from dunechest.chest.bag_records import BagRecords
from dunechest.chest.commit import commit, flush_pending, next_edition_phases, tag_steps
from dunechest.chest.layout import (
    DATA_FOLDER,
    EARLIER,
    EDITIONS,
    GONE,
    LIBRARY_FILES,
    LIBRARY_FOLDER,
    PAYLOAD,
    PENDING_TAGS,
    kept_path,
)
from dunechest.chest.records import ChangeCounts, LibraryRecord
from dunechest.chest.tag_lists import Tag
from dunechest.chest.write_tags import write_tags
from dunechest.errors import DuneChestError
from dunechest.jobs.archive.doing.edition_record import carried_folders, outside_folders
from dunechest.jobs.archive.doing.run import Run
from dunechest.model.archive import ArchivePlan, Difference
from dunechest.names import parents
from dunechest.transfer import disk


def changes_since(run: Run, previous: Difference) -> ChangeCounts:
    """Count what changed since the latest edition."""
    moved_from = set(run.moves.values())
    before, now = previous.files, run.proven
    return ChangeCounts(
        added_count=sum(path not in before and path not in run.moves for path in now.own()),
        changed_count=sum(
            path in before and path not in run.moves and now[path].record.blake3 != before[path].record.blake3
            for path in now.own()
        ),
        moved_count=len(run.moves),
        dropped_count=sum(path not in now and path not in moved_from for path in now.let_go()),
        added_bytes=sum(now.size(path) for path in now.own() if not now.there(path)),
    )


def next_edition(run: Run, previous: Difference, library: LibraryRecord) -> str:
    """Write the records of both editions, and decide the change from the one to the other."""
    plan, bag = run.plan, run.bag
    number = previous.record.edition
    moved = {old: new for new, old in run.moves.items()}
    leaving = {
        path: kept_path(number, path)
        for path in (*run.proven.let_go(), *run.moves)
        if path in previous.files and path not in moved and (path in run.moves or not run.proven.there(path))
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
    changes = editions.differences(previous.files.records_of(run.proven.let_go()), run.proven.own_records())
    folder = f"{EDITIONS}/{number:04d}"
    top = write_tags(
        bag,
        plan.archived_as,
        library,
        run.proven,
        earlier={
            f"{folder}/library.json": [records.encode_line(_as_earlier(plan, previous))],
            f"{folder}/changes.jsonl": map(records.encode_line, changes),
        },
        carried=carried,
        archives=in_pieces.values(),
        before=own.told_for_certain(),
    )
    flush_pending(bag, whole=plan.whole_sync)
    leaving |= {path: f"{GONE}/{at}" for at, path in enumerate(in_pieces)}
    phases = next_edition_phases(
        bag,
        leaving=leaving,
        moved=moved,
        arriving=[path for path in run.proven.own() if not run.proven.there(path)],
        folders={LIBRARY_FOLDER, *plan.folders.values(), *outside_folders(plan), *carried_folders(plan)},
        old_folders=_old_folders(previous),
    )
    commit(bag, (*phases, tag_steps(bag)))
    return top


def _as_earlier(plan: ArchivePlan, previous: Difference) -> LibraryRecord:
    """Return the record of the edition before as an earlier one: one that much changed after is kept by its own record."""
    return msgspec.structs.replace(previous.record, protected=True) if plan.protects else previous.record


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
    for nearest in {path.rpartition("/")[0] for path in previous.files} - {""}:
        found.update((nearest, *parents(nearest)))
    return found
