"""Capture a library's databases while it is archived."""

from __future__ import annotations

import os
import sqlite3
from collections.abc import Iterator, Sequence
from pathlib import Path

import msgspec

from dunechest.chest.file_table import Proven
from dunechest.chest.layout import CAPTURES, PAYLOAD
from dunechest.chest.payload import is_there
from dunechest.chest.records import CapturedDatabase, FileRecord, LeftOut
from dunechest.errors import CutOffError
from dunechest.jobs.archive.doing.run import Run, cut_off_words, source_of, task_from
from dunechest.library.capture import DatabaseInUseError, NotCapturedError, capture, one_moment
from dunechest.library.formats.sqlite import looks_like_database
from dunechest.model.archive import PlannedDatabase, PlannedFile
from dunechest.model.study import LeftOutFile
from dunechest.names import from_wire, to_wire
from dunechest.progress import Progress, Tally
from dunechest.transfer import disk, patient
from dunechest.transfer.tasks import CopyJob, CopyOutcome
from dunechest.transfer.workers import Workers
from dunechest.values import PathAndWhy


def capture_all(
    run: Run, workers: Workers, databases: Sequence[PlannedDatabase], progress: Progress
) -> Iterator[list[PlannedFile]]:
    """Capture databases, all of them as they are at one moment; yield for each the files to be copied like any other.

    What an application writes into two databases at once, having attached one to the other, would else be in one only.
    """
    databases = [planned for planned in databases if not _supplied(run, workers, planned)]
    places = {id(planned): Path(os.fsdecode(source_of(run, planned.file))) for planned in databases}
    with one_moment(places.values()) as held:
        for planned in databases:
            place = places[id(planned)]
            yield _capture_one(run, workers, planned, held.get(place), progress)


def _supplied(run: Run, workers: Workers, database: PlannedDatabase) -> bool:
    """Take a captured database from the other chest, if it has it in this state."""
    found = run.supplied.captured(database) if run.supplied is not None else None
    if found is None:
        return False
    source, digest, size = found
    task = msgspec.structs.replace(
        task_from(run, database.file, source),
        size=size,
        expect=bytes.fromhex(digest),
    )
    (done,) = workers.run([CopyJob([task], True, run.plan.whole_sync)])
    (outcome,) = done.copies or (CopyOutcome("cut-off", why="no answer"),)
    if outcome.state == "cut-off":
        raise CutOffError(cut_off_words(run, outcome.why))
    if outcome.state == "ok":
        _enter(run, database, outcome)
    return outcome.state == "ok"


def _capture_one(
    run: Run, workers: Workers, database: PlannedDatabase, held: sqlite3.Connection | None, progress: Progress
) -> list[PlannedFile]:
    """Capture one database; if SQLite cannot, return its files to be copied like any other."""
    file = database.file
    scratch = run.bag / CAPTURES
    scratch.mkdir(exist_ok=True)
    taken = scratch / "captured"
    patient.unlink(taken, missing_ok=True)
    source = Path(os.fsdecode(source_of(run, file)))
    tally = Tally(progress, "copying-database", 1, file.entry.size, run.plan.library.name)
    try:
        result = capture(source, taken, scratch, tell=tally, held=held)
    except DatabaseInUseError as error:
        _leave_in_use(run, database, str(error))
        return []
    except NotCapturedError as error:
        declared = run.plan.library.kind.database_patterns.match(file.entry.path)
        if declared or looks_like_database(source):
            run.broken.append(PathAndWhy(file.entry.path, f"{error}; its files were copied as they are"))
        return [file, *database.companions]
    os.utime(taken, ns=(file.entry.mtime_ns, file.entry.mtime_ns))
    job = CopyJob(
        [task_from(run, file, os.fsencode(taken))],
        True,
        run.plan.whole_sync,
    )
    (done,) = workers.run([job])
    (outcome,) = done.copies or (CopyOutcome("cut-off", why="no answer"),)
    if outcome.state != "ok":
        raise CutOffError(cut_off_words(run, outcome.why))
    patient.unlink(taken)
    _enter(run, database, outcome)
    if not result.intact:
        run.broken.append(PathAndWhy(file.entry.path, f"SQLite finds damage in it: {result.words}"))
    return []


def _leave_in_use(run: Run, database: PlannedDatabase, why: str) -> None:
    """Leave out a database that an application holds for itself."""
    file, previous = database.file, run.plan.previous
    if previous is not None and file.stored_as in previous.files:
        why += run.keep_unread(file)
        run.captured += [known for known in previous.record.databases if from_wire(known.path) == file.entry.path]
    run.left.append(LeftOutFile(file.entry.path, file.entry.size, why, True, file.entry.mtime_ns))
    for companion in database.companions:
        entry = companion.entry
        run.left.append(LeftOutFile(entry.path, entry.size, "it belongs to that database", False, entry.mtime_ns))


def _enter(run: Run, database: PlannedDatabase, outcome: CopyOutcome) -> None:
    """Enter a captured database into the edition."""
    file, entry, previous = database.file, database.file.entry, run.plan.previous
    digest = outcome.blake3.hex()
    record = FileRecord(file.stored_as, outcome.size, entry.mtime_ns, entry.mode, digest, file.role, run.plan.edition)
    before = previous.files.get(file.stored_as) if previous is not None else None
    there = before is not None and is_there(run.bag, file.stored_as, before.record.size)
    if before is not None and there and before.record.blake3 == digest:  # written to, and no other for it
        disk.remove(run.bag / PAYLOAD / file.stored_as)
        record = msgspec.structs.replace(record, edition=before.record.edition)
        run.proven.put_there(file.stored_as, Proven(record, outcome.sha512))
    else:
        run.proven[file.stored_as] = Proven(record, outcome.sha512)
    run.own_sizes[file.stored_as] = entry.size
    why = "its content is in the copied database"
    companions = [companion.entry for companion in database.companions]
    run.left += [LeftOutFile(c.path, c.size, why, False, c.mtime_ns) for c in companions]
    left = tuple(LeftOut(to_wire(c.path), c.size, why, c.mtime_ns) for c in companions)
    run.captured.append(CapturedDatabase(to_wire(entry.path), entry.size, entry.mtime_ns, left))
