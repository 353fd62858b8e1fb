"""Files of the new edition whose bytes the drive already has, found by digest."""

from __future__ import annotations

import msgspec

from dunechest.chest.file_table import Proven
from dunechest.chest.payload import is_there
from dunechest.jobs.archive.doing.run import Run, source_of
from dunechest.model.archive import PlannedDatabase, PlannedFile
from dunechest.model.study import LeftOutFile, same_time
from dunechest.names import from_wire
from dunechest.progress import Progress, Tally
from dunechest.transfer.tasks import DigestTask
from dunechest.transfer.workers import Workers


class Recognised(msgspec.Struct, frozen=True):
    """What remains to be done: files to copy, and databases to capture."""

    files: list[PlannedFile]
    databases: list[PlannedDatabase]


def recognise(run: Run, progress: Progress) -> Recognised:
    """Enter into a run what is on the drive already.

    A file of another name whose bytes were dropped elsewhere is *moved*; one that
    only has another time or mode is *touched*. Both are read once, and not written. Where
    sizes and times are distrusted, everything is read, and what differs without having
    another size or time is a silent change.

    Raises
    ------
    CutOffError
        If a helper process ended.
    """
    plan, previous = run.plan, run.plan.previous
    assert previous is not None
    databases = list(plan.databases)
    _carry_over(run)
    if plan.options.read_all:
        databases += previous.kept_databases
    else:
        for database in previous.kept_databases:
            _keep_database(run, database)
        for file in previous.kept:
            _keep(run, file)
    leaving = {file.stored_as for file in plan.files_to_read if file.stored_as in previous.files} | set(
        previous.dropped
    )
    # What the chest has lost cannot be taken over from it.
    leaving = {path for path in leaving if is_there(run.bag, path, previous.files.size(path))}
    sizes = {previous.files[path].record.size for path in leaving}
    candidates = [
        file for file in plan.files_to_read if file.entry.size in sizes and file.stored_as not in run.proven
    ]
    if plan.options.read_all:
        candidates += previous.kept
    digests = _digests(run, candidates, progress)
    unknown = []
    for file in candidates:
        before = previous.files.get(file.stored_as) if file.stored_as in leaving or plan.options.read_all else None
        if before is not None and digests.get(file.stored_as) == before.record.blake3:
            _keep(run, file)
            leaving.discard(file.stored_as)
        else:
            unknown.append(file)
    if plan.options.read_all:
        silent = {file.stored_as for file in previous.kept}
        run.silent += [file.entry.path for file in unknown if file.stored_as in silent and file.stored_as in digests]
        leaving |= {file.stored_as for file in unknown if file.stored_as in silent}
    pool: dict[str, list[str]] = {}
    for path in sorted(leaving, reverse=True):
        pool.setdefault(previous.files[path].record.blake3, []).append(path)
    for file in unknown:
        old = pool.get(digests.get(file.stored_as, ""))
        if old and file.entry.size:
            run.moves[file.stored_as] = old.pop()
            _keep(run, file, previous.files[run.moves[file.stored_as]])
    wanted = [*plan.files_to_read, *(previous.kept if plan.options.read_all else ())]
    return Recognised([file for file in wanted if file.stored_as not in run.proven], databases)


def _carry_over(run: Run) -> None:
    """Take over what cannot be seen now, as it is on the drive."""
    previous = run.plan.previous
    assert previous is not None
    for item in previous.carried:
        run.proven.keep(item.stored)
        run.unread.add(item.stored)
        run.carried[item.stored] = item
    away = {item.path for item in previous.carried}
    run.captured += [item for item in previous.record.databases if from_wire(item.path) in away]


def _keep(run: Run, file: PlannedFile, proven: Proven | None = None) -> None:
    """Take over a file that is on the drive, with what is new of its name, time, mode and role."""
    assert run.plan.previous is not None
    entry = file.entry
    mtime_ns = entry.mtime_ns
    if proven is None:  # as nearly always
        facts = run.plan.previous.files.facts(file.stored_as)
        if facts is not None and same_time(facts[1], mtime_ns, run.plan.lesser.step_ns):
            mtime_ns = facts[1]
        if facts is not None and facts[1:] == (mtime_ns, entry.mode, file.role):
            run.proven.keep(file.stored_as)
            return
    before = proven or run.plan.previous.files[file.stored_as]
    record = before.record
    if (record.path, record.mtime_ns, record.mode, record.role) != (
        file.stored_as,
        mtime_ns,
        entry.mode,
        file.role,
    ):
        record = msgspec.structs.replace(
            record, path=file.stored_as, mtime_ns=mtime_ns, mode=entry.mode, role=file.role
        )
        run.proven.put_there(file.stored_as, Proven(record, before.raw))
    else:
        run.proven.keep(file.stored_as)


def _keep_database(run: Run, database: PlannedDatabase) -> None:
    previous = run.plan.previous
    assert previous is not None
    path, stored = database.file.entry.path, database.file.stored_as
    run.proven.keep(stored)
    run.own_sizes[stored] = database.file.entry.size
    run.captured += [item for item in previous.record.databases if from_wire(item.path) == path]
    run.left += [
        LeftOutFile(c.entry.path, c.entry.size, "its content is in the copied database", False, c.entry.mtime_ns)
        for c in database.companions
    ]


def _digests(run: Run, files: list[PlannedFile], progress: Progress) -> dict[str, str]:
    """Read files of the library, and return their BLAKE3 digests by stored path."""
    known = {file.stored_as: run.supplied.source(file) for file in files} if run.supplied is not None else {}
    found = {stored: place[1] for stored, place in known.items() if place is not None}
    files = [file for file in files if file.stored_as not in found]
    total = sum(file.entry.size for file in files)
    tally = Tally(progress, "comparing", len(files), total, run.plan.library.name)
    with Workers.for_job(len(files), total, (run.plan.library.path,), tally) as workers:
        for file, outcome in workers.digest_each(
            files, lambda file: file.entry.size, lambda file: DigestTask(source_of(run, file), file.entry.size)
        ):
            if outcome.state == "ok":
                found[file.stored_as] = outcome.digests[0].hex()
                tally.files_done = len(found)
    return found
