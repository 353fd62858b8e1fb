"""Bring back into an archive what it has lost, from the library, where its bytes are still those that were archived."""

from __future__ import annotations

import os
from collections.abc import Iterable, Sequence
from itertools import chain

from dunechest.chest import journal
from dunechest.chest.commit import commit
from dunechest.chest.journal import Rename
from dunechest.chest.layout import DATA, PAYLOAD
from dunechest.chest.payload import mode_of
from dunechest.errors import CutOffError
from dunechest.jobs.archive.doing.run import Run, cut_off_words, raw_path, source_of
from dunechest.model.archive import PlannedFile
from dunechest.progress import Progress, Tally
from dunechest.transfer import disk
from dunechest.transfer.tasks import CopyJob, CopyTask
from dunechest.transfer.workers import Workers
from dunechest.values import PathAndWhy


def heal(run: Run, lost: Iterable[PlannedFile], progress: Progress) -> None:
    """Copy lost files again, each only if its bytes are those of the record; `run` notes which could be and which not.

    Raises
    ------
    CutOffError
        If the drive is full, gone or failing.
    """
    plan, previous = run.plan, run.plan.previous
    assert previous is not None
    files = list(lost)
    journal.clear(run.bag)
    payload = os.fsencode(run.bag / PAYLOAD) + b"/"
    for folder in sorted({file.stored_as.rpartition("/")[0] for file in files}):
        disk.make_folder(run.bag / PAYLOAD / folder)
    total = sum(file.entry.size for file in files)
    brought: list[PlannedFile] = []
    tally = Tally(progress, "repairing", len(files), total, plan.library.name)

    def task(file: PlannedFile) -> CopyTask:
        record = previous.files[file.stored_as].record
        mode = mode_of(record.mode, readable=plan.chest.record.readable)
        target = payload + raw_path(file.stored_as)
        return CopyTask(
            source_of(run, file), target, record.size, record.mtime_ns, mode, bytes.fromhex(record.blake3)
        )

    def job(batch: Sequence[PlannedFile]) -> CopyJob:
        return CopyJob([task(file) for file in batch], False, plan.whole_sync)

    with Workers.for_job(len(files), total, (plan.library.path, run.bag), tally) as workers:
        for file, outcome in chain.from_iterable(workers.copy_each(files, lambda file: file.entry.size, job)):
            if outcome.state == "ok":
                brought.append(file)
                tally.files_done = len(brought)
            elif outcome.state == "cut-off":
                raise CutOffError(cut_off_words(run, outcome.why))
            else:
                why = "it has changed in the library since" if outcome.state == "not-intact" else outcome.why
                run.lost.append(PathAndWhy(file.entry.path, why))
    for folder in sorted({file.stored_as.rpartition("/")[0] for file in brought}):
        disk.flush_folder(run.bag / PAYLOAD / folder)
    into = tuple(Rename(f"{PAYLOAD}/{file.stored_as}", f"{DATA}{file.stored_as}") for file in brought)
    if into:
        commit(run.bag, (into,))
    else:
        journal.clear(run.bag)
    run.healed += [file.entry.path for file in brought]
