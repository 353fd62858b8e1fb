"""Carry out an archive plan. It decides nothing: what is not in the plan is not done."""

from __future__ import annotations

import os
import time
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace

import msgspec

from dunechest.chest import journal, records
from dunechest.chest.bag_records import BagRecords
from dunechest.chest.file_table import Proven
from dunechest.chest.layout import DECLARATION, DUNE, FOR, LIBRARY_FOLDER, PAYLOAD, PENDING, PROVEN
from dunechest.chest.records import FileRecord, ProvenRecord
from dunechest.errors import CutOff, Refused
from dunechest.findings import stops
from dunechest.jobs import archive_finish, healing
from dunechest.jobs.account import ArchiveResult, account_archived, account_unchanged
from dunechest.jobs.archive import ArchivePlan, check_codes
from dunechest.jobs.archive_run import Run, copy_task, cut_off_words, payload_of, source_of
from dunechest.jobs.capturing import capture_one
from dunechest.jobs.here import machine_name
from dunechest.jobs.planned import PlannedFile
from dunechest.jobs.recognising import Recognised, recognise
from dunechest.jobs.study.selection import LeftBehind
from dunechest.ledger import events
from dunechest.library.formats.sqlite import COMPANIONS
from dunechest.machine.volumes import identity
from dunechest.names import shown
from dunechest.progress import Progress, Tally, silent
from dunechest.transfer import disk, safe
from dunechest.transfer.crew import Crew
from dunechest.transfer.tasks import CopyJob, CopyOutcome
from dunechest.transfer.walk import each_file, entry_of, walk

_FAULTS = ("vanished", "unreadable", "changing", "not-sound")


def refuse_if_stopped(plans: Iterable[ArchivePlan], despite: Iterable[str] = ()) -> None:
    """Raise `Refused` if a *stop* finding of any plan remains.

    Raises
    ------
    Refused
        With those findings; nothing has been changed.
    """
    codes = tuple(despite)
    check_codes(codes)
    remaining = [f for plan in plans for f in stops(plan.findings, codes)]
    if remaining:
        raise Refused("Nothing was archived.", remaining)


def carry_out(plan: ArchivePlan, *, despite: Iterable[str] = (), progress: Progress = silent) -> ArchiveResult:
    """Archive the library of a plan.

    Parameters
    ----------
    plan : ArchivePlan
        From `plan_archive`.
    despite : iterable of str
        Codes of *stop* findings to overrule.
    progress : Progress
        Told how far it is.

    Returns
    -------
    ArchiveResult

    Raises
    ------
    Refused
        If a *stop* finding remains, or the chest has such a bag by now.
    CutOff
        If the drive is full, gone or failing. What was proven is taken up by the
        next run of the same plan.
    """
    refuse_if_stopped([plan], despite)
    begun = time.monotonic()
    bag = plan.chest.bag_folder(plan.bag)
    lost = plan.previous.lost if plan.previous is not None else ()
    if plan.state == "unchanged" and not lost:
        return account_unchanged(plan, bag, time.monotonic() - begun)
    run = Run(plan, bag, left=list(plan.left_out))
    with plan.chest.changing(machine_name()):
        # Whoever had the chest before may have died after deciding a change.
        try:
            journal.finish(bag)
        except OSError as error:
            raise CutOff(
                f"A change of {shown(plan.bag)} was cut off and cannot be finished now: {error.strerror}. Every file is on "
                "the drive."
            ) from error
        _still_as_planned(run)
        try:
            if lost:
                healing.heal(run, lost, progress)
            if plan.state == "unchanged":
                return _mended(run, time.monotonic() - begun)
            _prepare(run)
            to_do = (
                recognise(run, progress) if plan.state == "next" else Recognised(list(plan.files), [*plan.databases])
            )
            _copy(run, to_do, progress)
            if plan.reread and _nothing(run):
                journal.clear(bag)
                return _mended(run, time.monotonic() - begun)
            appeared, moved_on = _second_look(run)
            top = archive_finish.finish(run)
        except OSError as error:
            raise CutOff(cut_off_words(run, f"{error.strerror or error}")) from error
    result = account_archived(
        plan,
        bag,
        copied=sum(map(run.bytes_of, run.taken)),
        stored=run.proven,
        unread=run.unread,
        silent=run.silent,
        changes=run.changes,
        grown=run.grown,
        left_out=run.left,
        databases=len(run.captured),
        again=run.again,
        broken=run.broken,
        appeared=appeared,
        moved_on=moved_on,
        resumed=run.resumed,
        seconds=time.monotonic() - begun,
    )
    result = replace(result, healed=tuple(run.healed), lost=tuple(run.lost))
    _note(run, result, top)
    return result


def _mended(run: Run, seconds: float) -> ArchiveResult:
    """Return the account of a run in which nothing had changed, with what the chest had lost."""
    account = account_unchanged(run.plan, run.bag, seconds)
    return replace(account, healed=tuple(run.healed), lost=tuple(run.lost))


def _still_as_planned(run: Run) -> None:
    """Refuse if another process changed the bag since the plan was made."""
    plan, bag = run.plan, run.bag
    if plan.state == "new":
        if (bag / DECLARATION).exists():
            raise Refused(f"The chest has a bag {shown(plan.bag)} by now. Nothing was changed; plan again.")
        return
    now = BagRecords(bag).library()
    assert plan.previous is not None
    then = plan.previous.record
    if (now.edition, now.archived, now.totals) != (then.edition, then.archived, then.totals):
        raise Refused(f"{shown(plan.bag)} got another edition by now. Nothing was changed; run the command again.")


def _nothing(run: Run) -> bool:
    """Whether a second reading found everything as it was."""
    previous = run.plan.previous
    return previous is not None and not previous.others and not run.left_faults and run.proven.same_as_before


def _prepare(run: Run) -> None:
    """Make the folders, and take up what an earlier run of the same library had proven."""
    plan, bag = run.plan, run.bag
    pending = bag / PENDING
    owner = msgspec.json.encode((archive_finish.origin_of(plan), plan.edition))
    if pending.is_symlink() or bag.is_symlink() or (bag / DUNE).is_symlink():
        raise Refused(f"{shown(str(bag))} is or holds a link where a folder belongs. Nothing was changed.")
    if pending.exists():
        journal.refuse_if_decided(bag)
        try:
            ours = safe.read_bounded(bag / FOR, 1 << 20) == owner
        except (OSError, ValueError):
            ours = False
        if ours and (bag / PAYLOAD).is_dir() and not (bag / PAYLOAD).is_symlink():
            _take_up(run)
        else:
            journal.clear(bag)
    disk.make_folder(pending)
    safe.write_file(bag / FOR, owner)
    for folder in sorted(_folders(plan)):
        disk.make_folder(bag / PAYLOAD / folder)


def _folders(plan: ArchivePlan) -> set[str]:
    """Return the folders that the pending payload needs: all of them for a new bag, which becomes its ``data/``."""
    if plan.state == "new":
        return {LIBRARY_FOLDER, *plan.folders.values(), *archive_finish.stray_folders(plan)}
    every = [*plan.files, *(database.file for database in (*plan.databases, *plan.kept_databases))]
    every += [companion for database in plan.databases for companion in database.companions]
    if plan.reread:
        every += plan.kept
    return {LIBRARY_FOLDER, *(file.stored.rpartition("/")[0] for file in every)}


def _take_up(run: Run) -> None:
    """Believe what the list of proven files says, where the file is there and its source is as it was."""
    payload = run.bag / PAYLOAD
    wanted = {file.stored: file for file in run.plan.files}
    there = {file.path: file.size for file in walk(str(payload)).files}
    links = walk(str(payload)).links
    if links:
        journal.clear(run.bag)
        return
    try:
        lines = [line for _, line in records.read_lines(run.bag / PROVEN, ProvenRecord) if line]
    except OSError:
        lines = []
    for line in lines:
        file = wanted.get(line.path)
        if (
            file is not None
            and there.get(line.path) == line.size == file.entry.size
            and (line.mtime_ns, line.mode) == (file.entry.mtime_ns, file.entry.mode)
        ):
            record = FileRecord(
                line.path, line.size, line.mtime_ns, line.mode, line.blake3, file.role, run.plan.edition
            )
            run.proven[line.path] = Proven(record, bytes.fromhex(line.sha512))
    run.resumed = len(run.proven)
    for path in there:
        if path not in run.proven:
            disk.remove(payload / path)
    # Empty folders of a library that has changed since must not come along.
    wanted_folders = {*_folders(run.plan), "strays"}
    for folder in sorted((f.path for f in walk(str(payload)).folders), reverse=True):
        if folder and folder not in wanted_folders:
            try:
                disk.remove_folder(payload / folder)
            except OSError:
                continue


def _copy(run: Run, to_do: Recognised, progress: Progress) -> None:
    """Copy and prove the files; capture the databases first, while the rest waits."""
    plan = run.plan
    every = [*to_do.files, *(database.file for database in to_do.databases)]
    there = run.proven.count_there
    tally = Tally(
        progress,
        "archiving",
        len(every),
        sum(file.entry.size for file in every),
        plan.library.name,
        bytes_done=sum(run.bytes_of(path) for path in run.taken if not run.proven.there(path)),
    )
    tally.files_done = len(run.proven) - there
    tally.tell()
    missing = [file for file in to_do.files if file.stored not in run.proven]
    total = sum(file.entry.size for file in missing)
    crew_for = Crew.for_job(len(missing), total, (plan.library.path, run.bag), tally)
    flags = os.O_WRONLY | os.O_CREAT | os.O_APPEND | getattr(os, "O_BINARY", 0)
    log = disk.create(run.bag / PROVEN, flags, 0o644)
    try:
        with crew_for as crew:
            for database in to_do.databases:
                missing += capture_one(run, crew, database)
                tally.files_done = len(run.proven) - there
            for _ in _copy_files(run, crew, missing, log):
                tally.files_done = len(run.proven) - there
    finally:
        os.close(log)
    tally.tell()


def _copy_files(run: Run, crew: Crew, files: list[PlannedFile], log: int) -> Iterator[None]:
    """Copy files; yield after each batch, when the log says what of it is proven."""
    payload = payload_of(run)

    def job(batch: Sequence[PlannedFile]) -> CopyJob:
        return CopyJob([copy_task(file, source_of(run, file), payload) for file in batch], True, run.plan.whole_sync)

    for batch in crew.copy_each(files, lambda file: file.entry.size, job):
        lines = []
        for file, outcome in batch:
            proven = _take(run, file, outcome)
            if proven is not None:
                lines.append(records.encode_line(_proven_record(proven, outcome)))
        if lines:  # what is proven is to be known to the next run, even if this one is killed
            safe.write_all(log, b"".join(lines))
        for _, outcome in batch:
            if outcome.state == "cut-off":
                raise CutOff(cut_off_words(run, outcome.why))
        yield


def _proven_record(proven: Proven, outcome: CopyOutcome) -> ProvenRecord:
    record = proven.record
    return ProvenRecord(record.path, record.size, outcome.mtime_ns, record.mode, record.blake3, proven.sha512)


def _take(run: Run, file: PlannedFile, outcome: CopyOutcome) -> Proven | None:
    """Enter one outcome into the account."""
    entry = file.entry
    if outcome.state in _FAULTS:
        why = outcome.why
        before = run.plan.previous.files.get(file.stored) if run.plan.previous is not None else None
        if before is not None and outcome.state != "vanished":
            # What cannot be read now is kept as it was: an archive never holds less of it than before.
            run.proven.keep(file.stored)
            run.unread.add(file.stored)
            why += f"; it stays in the archive as edition {run.plan.edition - 1} had it"
        run.left.append(LeftBehind(entry.path, entry.size, why, True, entry.mtime_ns))
        return None
    if outcome.state != "ok":
        return None
    if outcome.again:
        run.again.append(entry.path)
    run.grown += outcome.size - entry.size
    # The walk's own numbers where they are the same: half a million new ones cost memory.
    size = entry.size if outcome.size == entry.size else outcome.size
    mtime_ns = entry.mtime_ns if outcome.mtime_ns == entry.mtime_ns else outcome.mtime_ns
    mode = entry.mode if outcome.mode == entry.mode else outcome.mode
    record = FileRecord(file.stored, size, mtime_ns, mode, outcome.blake3.hex(), file.role, run.plan.edition)
    proven = Proven(record, outcome.sha512)
    run.proven.put(record.path, proven, "" if file.other_name else entry.path)
    return proven


def _second_look(run: Run) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """Walk the library again: what appeared, and what changed after it had been copied."""
    plan = run.plan
    if plan.library.shape == "file":
        return (), ()
    databases = (*plan.databases, *plan.kept_databases)
    captured = {d.file.entry.path for d in databases}
    captured.update(c.entry.path for d in databases for c in d.companions)
    copied = {f.entry.path: f for f in (*plan.files, *plan.kept)}
    others = {f.path for f in plan.listing.files if f.path not in copied}
    appeared, moved_on = [], []
    for stray in plan.strays:
        now = entry_of(stray.entry.path)
        if now is None or (now.size, now.mtime_ns) != (stray.entry.size, stray.entry.mtime_ns):
            moved_on.append(stray.entry.path)
    for entry in each_file(str(plan.library.path)):
        if entry.path in captured or plan.library.kind.lock_patterns.match(entry.path):
            continue
        file = copied.get(entry.path)
        if file is None:
            # Of parts only what was asked for is watched.
            if entry.path not in others and not plan.selection.parts and not entry.path.endswith(COMPANIONS):
                appeared.append(entry.path)
            continue
        proven = run.proven.get(file.stored)
        if proven is not None and (proven.record.size, proven.record.mtime_ns) != (entry.size, entry.mtime_ns):
            moved_on.append(entry.path)
    appeared.sort()
    moved_on.sort()
    return tuple(appeared), tuple(moved_on)


def _note(run: Run, result: ArchiveResult, top: str) -> None:
    chest = run.plan.chest
    # The chest itself holds everything; without this only this machine's memory of it is missing.
    events.try_append(
        ("chest", {"id": chest.id, "label": chest.label, "folder": str(chest.folder)}),
        (
            "archive",
            {
                "chest": chest.id,
                "bag": result.bag,
                "origin": shown(str(run.plan.library.path)),
                "edition": run.plan.edition,
                "files": result.files_copied,
                "bytes": result.bytes_stored,
                "top": top,
                "where": identity(chest.folder),
            },
        ),
    )
