"""Drop the editions of a plan; nothing goes that another edition needs."""

from __future__ import annotations

import os
from collections.abc import Iterator, Mapping

from msgspec.structs import replace

from dunechest.chest import editions, journal, pieces, records
from dunechest.chest.bag_records import BagRecords
from dunechest.chest.commit import commit, finish_decided, tag_steps
from dunechest.chest.journal import Rename
from dunechest.chest.layout import DUNE, EARLIER, EDITIONS, FOR, GONE, INFO, PENDING, PENDING_TAGS, TAGS, edition_path
from dunechest.chest.records import FileRecord
from dunechest.chest.write_tags import bag_info, flushed_tag, write_lists
from dunechest.errors import CutOffError, RefusedError
from dunechest.jobs.editions.needed import archives_of, needed_digests
from dunechest.jobs.known.logs import keep_in_step
from dunechest.jobs.known.this_computer import machine_name
from dunechest.ledger import events
from dunechest.machine.volumes import identity
from dunechest.model.editions import DropPlan, DropResult
from dunechest.names import shown
from dunechest.transfer import disk
from dunechest.transfer.below import folders_in


def _rewrite(own: BagRecords, plan: DropPlan) -> list[str]:
    """Have the archives that stay hold what they need of those that go; return the paths of those rewritten."""
    bag = own.bag
    archives = archives_of(own, needed_digests(own, plan.record.edition, plan.kept_editions))
    where = {digest: item for item in archives.dropped.values() for digest in item.pieces}
    there = {digest for item in archives.kept.values() for digest in item.pieces}
    written = []
    for item in archives.kept.values():
        more = {d: where[d] for d in pieces.list_of(own.at, item) if d in where and d not in there}
        there |= more.keys()
        base = pieces.base_of(item, archives.dropped)
        if more or base != item.about.base:
            target = bag / PENDING_TAGS / item.path
            disk.make_folder(target.parent)
            disk.remove(target, missing_ok=True)
            pieces.rewrite(own.at, item, base, more, target)
            written.append(item.path)
    return written


def carry_out(plan: DropPlan) -> DropResult:
    """Drop editions as planned: the new records are proven first, then decided, then the files go.

    Raises
    ------
    RefusedError
        If the library got another edition since the plan was made.
    CutOffError
        If the drive is full, gone or failing; nothing is lost, and the next command finishes a decided change.
    """
    result = DropResult(
        plan.chest.label, plan.name, plan.kept_editions, plan.dropped_editions, len(plan.paths), plan.freed_bytes
    )
    if not plan.dropped_editions:
        return result
    bag = plan.chest.bag_folder(plan.name)
    with plan.chest.changing(machine_name()):
        finish_decided(bag)
        own = BagRecords(bag)
        now = own.library()
        if (now.edition, now.archived) != (plan.record.edition, plan.record.archived) or (
            own.numbers(now.edition) != tuple(sorted((*plan.kept_editions, *plan.dropped_editions)))
        ):
            raise RefusedError(
                f"{shown(plan.name)} has changed meanwhile. Nothing was deleted; run the command again."
            )
        if (bag / FOR).exists():
            raise RefusedError(
                f"An archive of {shown(plan.name)} was interrupted. Archive it again first, to finish it. "
                "Nothing was changed."
            )
        try:
            journal.clear(bag)  # what was left when dropping editions was interrupted
            top = _write(own, plan)
        except CutOffError:
            raise
        except OSError as error:
            raise CutOffError(
                f"Dropping editions of {shown(plan.name)} was interrupted: {error.strerror}. Nothing is lost."
            ) from error
    # Without this only this computer's memory of having made the bag is missing.
    events.try_append(
        (
            "archive",
            {
                "chest": plan.chest.id,
                "bag": plan.name,
                "origin": shown(str(plan.record.origin.path)),
                "edition": now.edition,
                "files": now.totals.files_copied,
                "bytes": now.totals.bytes_stored,
                "top": top,
                "where": identity(plan.chest.folder),
            },
        )
    )
    keep_in_step(plan.chest)
    return result


def _write(own: BagRecords, plan: DropPlan) -> str:
    """Write what the editions that stay need, and let go of the rest."""
    bag = own.bag
    gone = set(plan.paths)
    tags = editions.current_tags(own)
    changed: dict[str, list[bytes]] = {}
    for number, lines in _new_changes(own, plan).items():
        changed[f"{EDITIONS}/{number:04d}/changes.jsonl"] = lines
    for number in plan.marked:
        changed[edition_path(number)] = [records.encode_line(replace(own.edition(number), protected=True))]
    totals = {number: item for number, item in own.told_for_certain().items() if number not in plan.dropped_editions}
    changed[INFO] = [bag_info(plan.record, plan.name, plan.record.totals.files_stored, totals)]
    rewritten = _rewrite(own, plan)
    fresh = {*changed, *rewritten, TAGS}
    carried = [tag for path, tag in tags.items() if path not in gone and path not in fresh]
    top = write_lists(bag, changed, carried, [flushed_tag(bag, path) for path in rewritten])
    out = tuple(Rename(path, f"{GONE}/{n}") for n, path in enumerate(plan.paths))
    folders = {os.path.dirname(path) for path in plan.paths}
    above = {folder.rpartition("/")[0] for folder in folders}
    while above - folders:
        folders |= above
        above = {folder.rpartition("/")[0] for folder in folders}
    inner = [f for f in folders if f.startswith((EDITIONS + "/", EARLIER + "/"))]
    tidy = tuple(Rename(folder, "") for folder in sorted(inner, key=lambda f: -f.count("/")))
    for folder in folders_in(bag / PENDING):
        disk.flush_folder(folder)
    disk.flush_folder(bag / DUNE)
    commit(bag, (tag_steps(bag), out, tidy))
    return top


def _new_changes(own: BagRecords, plan: DropPlan) -> dict[int, list[bytes]]:
    """Say of each edition whose next one goes in what it differs from the next that stays."""
    numbers = own.numbers(plan.record.edition)
    found: dict[int, list[bytes]] = {}
    files = {path: proven.record for path, proven in editions.current_files(own).items()}
    later = dict(files)  # of the edition last met that stays
    next_gone = False
    for number in reversed(numbers[:-1]):
        editions.step_back(files, editions.changes_of(own, number))
        if number in plan.dropped_editions:
            next_gone = True
            continue
        if next_gone:
            lines = editions.differences(_sorted(files), _sorted(later))
            found[number] = [records.encode_line(line) for line in lines]
        later, next_gone = dict(files), False
    return found


def _sorted(files: Mapping[str, FileRecord]) -> Iterator[FileRecord]:
    return (files[path] for path in sorted(files))
