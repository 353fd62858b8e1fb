"""Copy the files of a plan and prove them; capture its databases first."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence

import msgspec

from dunechest.chest import records
from dunechest.chest.file_table import Proven
from dunechest.chest.layout import PROVEN
from dunechest.chest.records import FileRecord, ProvenRecord
from dunechest.errors import CutOffError
from dunechest.jobs.archive.doing.databases import capture_all
from dunechest.jobs.archive.doing.reuse import Recognised
from dunechest.jobs.archive.doing.run import Run, cut_off_words, payload_of, task_of
from dunechest.model.archive import PlannedFile
from dunechest.model.study import LeftOutFile
from dunechest.progress import Progress, Tally
from dunechest.transfer import disk, safe
from dunechest.transfer.tasks import CopyJob, CopyOutcome
from dunechest.transfer.workers import Workers

_FAULTS = ("vanished", "unreadable", "closed", "changing", "not-intact")


def copy(run: Run, to_do: Recognised, progress: Progress) -> None:
    """Copy and prove the files; capture the databases first, while the rest waits."""
    plan = run.plan
    every = [*to_do.files, *(database.file for database in to_do.databases)]
    there = run.proven.count_there
    tally = Tally(
        progress,
        "copying",
        len(every),
        sum(file.entry.size for file in every),
        plan.library.name,
        bytes_done=sum(run.bytes_of(path) for path in run.proven.own() if not run.proven.there(path)),
    )
    tally.files_done = len(run.proven) - there
    tally.tell()
    missing = [file for file in to_do.files if file.stored_as not in run.proven]
    total = sum(file.entry.size for file in missing)
    crew_for = Workers.for_job(len(missing), total, (plan.library.path, run.bag), tally)
    flags = os.O_WRONLY | os.O_CREAT | os.O_APPEND | getattr(os, "O_BINARY", 0)
    log = disk.create(run.bag / PROVEN, flags, 0o644)
    try:
        with crew_for as workers:
            _ = run.fingerprint  # the helpers are still starting: a moment that nothing else can be done in
            for files in capture_all(run, workers, to_do.databases, progress):
                missing += files
                tally.files_done = len(run.proven) - there
            for _ in _copy_files(run, workers, missing, log):
                tally.files_done = len(run.proven) - there
            if run.supplied is not None:
                # What the other chest did not give back as it was is read from the library itself.
                run.supplied = None
                again = [file for file in missing if file.stored_as in run.not_supplied]
                for _ in _copy_files(run, workers, again, log):
                    tally.files_done = len(run.proven) - there
    finally:
        os.close(log)
    tally.tell()


def _copy_files(run: Run, workers: Workers, files: list[PlannedFile], log: int) -> Iterator[None]:
    """Copy files; yield after each batch, when the log says what of it is proven."""
    payload = payload_of(run)

    def job(batch: Sequence[PlannedFile]) -> CopyJob:
        return CopyJob([task_of(run, file, payload) for file in batch], True, run.plan.whole_sync)

    for batch in workers.copy_each(files, lambda file: file.entry.size, job):
        lines = []
        for file, outcome in batch:
            proven = _take(run, file, outcome)
            if proven is not None:
                lines.append(records.encode_line(_proven_record(proven, outcome)))
        if lines:  # what is proven is to be known to the next run, even if this one is killed
            safe.write_all(log, b"".join(lines))
        for _, outcome in batch:
            if outcome.state == "cut-off":
                raise CutOffError(cut_off_words(run, outcome.why))
        yield


def _proven_record(proven: Proven, outcome: CopyOutcome) -> ProvenRecord:
    record = proven.record
    return ProvenRecord(record.path, record.size, record.mtime_ns, record.mode, record.blake3, proven.sha512)


def _take(run: Run, file: PlannedFile, outcome: CopyOutcome) -> Proven | None:
    """Enter one outcome into the summary."""
    entry = file.entry
    supplied = run.supplied is not None and run.supplied.source(file) is not None
    if supplied and outcome.state in _FAULTS:
        run.not_supplied.add(file.stored_as)
        return None
    if supplied and outcome.state == "ok":  # the times of a copy are those of its drive
        outcome = msgspec.structs.replace(outcome, mtime_ns=entry.mtime_ns, mode=entry.mode)
    if outcome.state in _FAULTS:
        # Of what vanished meanwhile nobody knows whether its drive did; the next run will tell.
        why = outcome.why + run.keep_unread(file)
        run.left.append(LeftOutFile(entry.path, entry.size, why, True, entry.mtime_ns))
        return None
    if outcome.state != "ok":
        return None
    if outcome.again:
        run.again.append(entry.path)
    run.grown += outcome.size - entry.size
    run.restless |= (outcome.size, outcome.mtime_ns) != (entry.size, entry.mtime_ns)
    # The walk's own numbers where they are the same: half a million new ones cost memory.
    size = entry.size if outcome.size == entry.size else outcome.size
    mtime_ns = entry.mtime_ns if outcome.mtime_ns == entry.mtime_ns else outcome.mtime_ns
    # Where the library's place has no modes, they are those of the edition before.
    given = outcome.mode == entry.mode or "modes" in run.plan.lesser.not_held
    mode = entry.mode if given else outcome.mode
    record = FileRecord(file.stored_as, size, mtime_ns, mode, outcome.blake3.hex(), file.role, run.plan.edition)
    proven = Proven(record, outcome.sha512)
    run.proven.put(record.path, proven, "" if file.other_name else entry.path)
    if outcome.data is not None:
        run.sparse[record.path] = outcome.data
    return proven
