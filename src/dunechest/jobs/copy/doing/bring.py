"""Copy files from the source's bag, each proven by its recorded digest while it is read, and read back."""

from __future__ import annotations

import os
from collections.abc import Sequence
from itertools import chain

import msgspec

from dunechest.chest import journal, records
from dunechest.chest.bag_records import BagRecords
from dunechest.chest.layout import DUNE, FOR, LIBRARY_FOLDER, PAYLOAD, PENDING, PENDING_TAGS, PROVEN
from dunechest.chest.records import ProvenRecord
from dunechest.errors import CutOffError, RefusedError
from dunechest.jobs.copy.doing.run import Run, cut_off_words, pending
from dunechest.jobs.study.supplies import Supplies, bag_suppliers, other_chests
from dunechest.model.copy import FileToCopy
from dunechest.names import shown
from dunechest.paths import is_link
from dunechest.progress import Progress, Tally
from dunechest.transfer import disk, safe
from dunechest.transfer.tasks import CopyJob, CopyOutcome, CopyTask
from dunechest.transfer.walk import walk
from dunechest.transfer.workers import Workers


def prepare(run: Run, folders: set[str]) -> None:
    """Make the folders, and take up what an interrupted run of the same copy had proven.

    Parameters
    ----------
    run : Run
        The running copy.
    folders : set of str
        Folders below ``data/`` that are needed beside those of the files.
    """
    plan, bag = run.plan, run.bag
    place = bag / PENDING
    owner = msgspec.json.encode(("copy", plan.source.id))
    if is_link(place) or is_link(bag) or is_link(bag / DUNE):
        raise RefusedError(f"{shown(str(bag))} is or holds a link where a folder belongs. Nothing was changed.")
    if place.exists():
        journal.refuse_if_decided(bag)
        try:
            ours = safe.read_bounded(bag / FOR, 1 << 20) == owner
        except (OSError, ValueError):
            ours = False
        if not (ours and _take_up(run)):
            journal.clear(bag)
    disk.make_folder(place)
    safe.write_file(bag / FOR, owner)
    wanted = {f"{PAYLOAD}/{folder}" for folder in (LIBRARY_FOLDER, *folders)}
    wanted |= {pending(item.path).rpartition("/")[0] for item in plan.sync.bring}
    for folder in sorted(wanted):
        disk.make_folder(bag / folder)


def _take_up(run: Run) -> bool:
    """Believe what the list of proven files says, where the file is there and is still wanted; the rest goes."""
    bag = run.bag
    there: dict[str, int] = {}
    for top in (PAYLOAD, PENDING_TAGS):
        if not (bag / top).is_dir() or is_link(bag / top):
            continue
        found = walk(str(bag / top))
        if found.links or found.others:
            return False
        there |= {f"{top}/{file.path}": file.size for file in found.files}
    wanted = {item.path: item for item in run.plan.sync.bring}
    try:
        lines = [line for _, line in records.read_lines(bag / PROVEN, ProvenRecord) if line]
    except OSError:
        lines = []
    for line in lines:
        item = wanted.get(line.path)
        if item is not None and item.blake3 == line.blake3 and there.get(pending(item.path)) == item.size:
            run.brought.add(item.path)
    run.resumed = len(run.brought)
    kept = {pending(path) for path in run.brought}
    for path in there:
        if path not in kept:
            disk.remove(bag / path)
    return True


def bring(run: Run, progress: Progress) -> None:
    """Copy what is to be copied; what is not intact in the source is taken from other chests, where one has it.

    Raises
    ------
    CutOffError
        If a drive is full, gone or failing.
    """
    plan = run.plan
    own = BagRecords(plan.source.bag_folder(plan.name))
    todo = [item for item in plan.sync.bring if item.path not in run.brought]
    done = sum(item.size for item in plan.sync.bring) - sum(item.size for item in todo)
    tally = Tally(progress, "copying", len(plan.sync.bring), plan.sync.bytes, plan.name, bytes_done=done)
    tally.files_done = len(run.brought)
    tally.tell()
    flags = os.O_WRONLY | os.O_CREAT | os.O_APPEND | getattr(os, "O_BINARY", 0)
    log = disk.create(run.bag / PROVEN, flags, 0o644)
    failed: list[tuple[FileToCopy, CopyOutcome]] = []

    def job(batch: Sequence[FileToCopy]) -> CopyJob:
        return CopyJob([_task(run, own, item) for item in batch], False, plan.whole_sync)

    try:
        total = sum(item.size for item in todo)
        with Workers.for_job(len(todo), total, (plan.source.folder, run.bag), tally) as workers:
            for batch in workers.copy_each(todo, lambda item: item.size, job):
                _note(run, log, batch, failed)
                tally.files_done = len(run.brought)
    finally:
        os.close(log)
    _refuse_if_gone(run, failed)
    _from_elsewhere(run, failed, own)
    tally.tell()


def _task(run: Run, own: BagRecords, item: FileToCopy) -> CopyTask:
    source = own.at(item.source)
    mtime_ns = item.mtime_ns
    if not mtime_ns:  # an earlier state: its time is that of the file itself
        try:
            mtime_ns = source.lstat().st_mtime_ns
        except OSError:
            pass
    target = os.fsencode(run.bag / pending(item.path))
    return CopyTask(os.fsencode(source), target, item.size, mtime_ns, item.mode, bytes.fromhex(item.blake3))


def _note(
    run: Run, log: int, batch: Sequence[tuple[FileToCopy, CopyOutcome]], failed: list[tuple[FileToCopy, CopyOutcome]]
) -> None:
    """Enter the outcomes of a batch; what is proven is to be known to the next run, even if this one is killed."""
    lines = []
    for item, outcome in batch:
        if outcome.state == "ok":
            run.brought.add(item.path)
            record = ProvenRecord(item.path, item.size, item.mtime_ns, item.mode, item.blake3, "")
            lines.append(records.encode_line(record))
        elif outcome.state != "cut-off":
            failed.append((item, outcome))
    if lines:
        safe.write_all(log, b"".join(lines))
    for _, outcome in batch:
        if outcome.state == "cut-off":
            raise CutOffError(cut_off_words(run, outcome.why))


def _refuse_if_gone(run: Run, failed: Sequence[tuple[FileToCopy, CopyOutcome]]) -> None:
    """Tell a source whose drive is gone from one with damaged files."""
    if failed and not os.path.isdir(run.plan.source.bag_folder(run.plan.name)):
        raise CutOffError(cut_off_words(run, f"the drive of {shown(run.plan.source.label)} is gone"))


def _from_elsewhere(run: Run, failed: Sequence[tuple[FileToCopy, CopyOutcome]], own: BagRecords) -> None:
    """Take what is not intact in the source from another place in it, or from a third chest."""
    if not failed:
        return
    plan = run.plan
    label = shown(plan.source.label)

    others = other_chests(plan.name, beside=(plan.source, plan.target))
    supplies = Supplies(bag_suppliers(chain([(label, own)], others)))
    for item, outcome in failed:
        target = run.bag / pending(item.path)
        try:
            whose = supplies.fetch(item.blake3, item.path, target)
            if whose is not None and item.mtime_ns:
                os.utime(target, ns=(item.mtime_ns, item.mtime_ns))
        except OSError as error:
            raise CutOffError(cut_off_words(run, error.strerror or str(error))) from error
        if whose is not None:
            run.brought.add(item.path)
            run.elsewhere.append((item.path, whose))
        else:
            run.missing[item.path] = _why(outcome, label)


def _why(outcome: CopyOutcome, label: str) -> str:
    match outcome.state:
        case "vanished":
            return f"it is missing in {label}"
        case "not-intact":
            return f"it is damaged in {label}"
        case _:
            return f"it cannot be read in {label}: {outcome.why}"
