"""Carry out an archive plan. It decides nothing: what is not in the plan is not done."""

from __future__ import annotations

import os
import time
from collections import Counter
from collections.abc import Iterable, Iterator
from pathlib import Path
from typing import BinaryIO

import msgspec

from dunechest.chest import bagging, journal, records
from dunechest.chest.bagging import Proven
from dunechest.chest.chest import now_text, version
from dunechest.chest.records import (
    ChangedName,
    FileRecord,
    FolderRecord,
    LeftOut,
    LibraryRecord,
    LinkRecord,
    Origin,
    PartRecord,
    ProvenRecord,
    ReferenceCounts,
    ReferenceRecord,
    StrayRecord,
    Totals,
)
from dunechest.errors import CutOff, DuneChestError, Refused
from dunechest.findings import stops
from dunechest.jobs.account import ArchiveResult, account_archived, account_unchanged
from dunechest.jobs.archive import ArchivePlan, PlannedFile, check_codes
from dunechest.jobs.archive_run import Run, copy_task, cut_off_words, payload_of, raw_path
from dunechest.jobs.capturing import capture_one
from dunechest.jobs.chests import machine_name
from dunechest.jobs.selection import LeftBehind
from dunechest.ledger import notes
from dunechest.library.databases import COMPANIONS
from dunechest.machine.folders import own_home, place_of
from dunechest.machine.identity import this_machine
from dunechest.names import shown, to_wire
from dunechest.progress import Progress, Step, silent
from dunechest.transfer import medium, safe
from dunechest.transfer.crew import Crew, batches
from dunechest.transfer.tasks import CopyJob, CopyOutcome
from dunechest.transfer.walk import entry_of, walk

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
    if plan.state == "unchanged":
        return account_unchanged(plan, bag, time.monotonic() - begun)
    run = Run(plan, bag, left=list(plan.left_out))
    with plan.chest.changing(machine_name()):
        # Whoever had the chest before may have died after deciding a change.
        if (decided := journal.read(bag)) is not None:
            journal.carry_out(bag, decided)
        if (bag / "bagit.txt").exists():
            raise Refused(f"The chest has a bag {shown(plan.bag)} by now. Nothing was changed; plan again.")
        try:
            _prepare(run)
            _copy(run, progress)
            appeared, moved_on = _second_look(run)
            top = _finish(run)
        except OSError as error:
            raise CutOff(cut_off_words(run, f"{error.strerror or error}")) from error
    result = account_archived(
        plan,
        bag,
        stored={path: proven.record.size for path, proven in run.proven.items()},
        sources=run.sources,
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
    _note(run, result, top)
    return result


def _prepare(run: Run) -> None:
    """Make the folders, and take up what an earlier run of the same library had proven."""
    plan, bag = run.plan, run.bag
    pending = bag / journal.PENDING
    owner = msgspec.json.encode(_origin(plan))
    if pending.is_symlink() or bag.is_symlink() or (bag / "dune").is_symlink():
        raise Refused(f"{shown(str(bag))} is or holds a link where a folder belongs. Nothing was changed.")
    if pending.exists():
        try:
            ours = safe.read_bounded(bag / bagging.FOR, 1 << 20) == owner
        except (OSError, ValueError):
            ours = False
        if ours and (bag / bagging.PAYLOAD).is_dir() and not (bag / bagging.PAYLOAD).is_symlink():
            _take_up(run)
        else:
            journal.clear(bag)
    pending.mkdir(parents=True, exist_ok=True)
    safe.write_file(bag / bagging.FOR, owner)
    for stored in sorted(plan.folders.values()) or ["library"]:
        (bag / bagging.PAYLOAD / stored).mkdir(parents=True, exist_ok=True)
    (bag / bagging.PAYLOAD / "library").mkdir(parents=True, exist_ok=True)
    for folder in _stray_folders(plan):
        (bag / bagging.PAYLOAD / folder).mkdir(parents=True, exist_ok=True)


def _stray_folders(plan: ArchivePlan) -> set[str]:
    return {file.stored.rpartition("/")[0] for file in plan.files if file.stray}


def _take_up(run: Run) -> None:
    """Believe what the list of proven files says, where the file is there and its source is as it was."""
    payload = run.bag / bagging.PAYLOAD
    wanted = {file.stored: file for file in run.plan.files}
    there = {file.path: file.size for file in walk(str(payload)).files}
    links = walk(str(payload)).links
    if links:
        journal.clear(run.bag)
        return
    try:
        lines = [line for _, line in records.read_lines(run.bag / bagging.PROVEN, ProvenRecord) if line]
    except OSError:
        lines = []
    for line in lines:
        file = wanted.get(line.path)
        if (
            file is not None
            and there.get(line.path) == line.size == file.entry.size
            and (line.mtime_ns, line.mode) == (file.entry.mtime_ns, file.entry.mode)
        ):
            record = FileRecord(line.path, line.size, line.mtime_ns, line.mode, line.blake3, file.role)
            run.proven[line.path] = Proven(record, line.sha512)
            run.sources[line.path] = line.size
    run.resumed = len(run.proven)
    for path in there:
        if path not in run.proven:
            (payload / path).unlink()
    # Empty folders of a library that has changed since must not come along.
    wanted_folders = {*run.plan.folders.values(), *_stray_folders(run.plan), "strays"}
    for folder in sorted((f.path for f in walk(str(payload)).folders), reverse=True):
        if folder and folder not in wanted_folders:
            try:
                (payload / folder).rmdir()
            except OSError:
                continue


class _Tally:
    """Turns counted bytes into progress."""

    def __init__(self, run: Run, progress: Progress) -> None:
        self._run = run
        self._progress = progress
        self._files = len(run.plan.files) + len(run.plan.databases)
        self._total = run.plan.bytes_to_copy
        self._bytes = sum(run.sources.values())

    def __call__(self, count: int) -> None:
        self._bytes += count
        self.tell()

    def tell(self) -> None:
        """Report where things stand."""
        done = len(self._run.proven)
        name = self._run.plan.library.name
        self._progress(Step("archiving", done, self._files, min(self._bytes, self._total), self._total, name))


def _copy(run: Run, progress: Progress) -> None:
    """Copy and prove the files; capture the databases first, while the rest waits."""
    plan = run.plan
    tally = _Tally(run, progress)
    tally.tell()
    missing = [file for file in plan.files if file.stored not in run.proven]
    total = sum(file.entry.size for file in missing)
    crew_for = Crew.for_job(len(missing), total, (plan.library.path, run.bag), tally)
    with crew_for as crew, (run.bag / bagging.PROVEN).open("ab") as log:
        for database in plan.databases:
            missing += capture_one(run, crew, database)
        _copy_files(run, crew, missing, log)
    tally.tell()


def _copy_files(run: Run, crew: Crew, files: list[PlannedFile], log: BinaryIO) -> None:
    payload = payload_of(run)
    root = os.fsencode(run.plan.library.path)
    root = root if run.plan.library.shape == "file" else root.rstrip(b"/") + b"/"
    folder = run.plan.library.shape == "folder"
    sent: dict[int, list[PlannedFile]] = {}

    def source(file: PlannedFile) -> bytes:
        if file.stray:
            return raw_path(file.entry.path)
        return root + raw_path(file.entry.path) if folder else root

    def jobs() -> Iterator[CopyJob]:
        for number, batch in enumerate(batches(files, lambda file: file.entry.size)):
            sent[number] = batch
            tasks = [copy_task(file, source(file), payload) for file in batch]
            yield CopyJob(tasks, True, run.plan.whole_sync)

    for done in crew.run(jobs()):
        lines = []
        outcomes = done.copies or ()
        for file, outcome in zip(sent.pop(done.number), outcomes, strict=True):
            proven = _take(run, file, outcome)
            if proven is not None:
                lines.append(records.encode_line(_proven_record(proven, outcome)))
        log.write(b"".join(lines))
        log.flush()  # what is proven is to be known to the next run, even if this one is killed
        for outcome in outcomes:
            if outcome.state == "cut-off":
                raise CutOff(cut_off_words(run, outcome.why))


def _proven_record(proven: Proven, outcome: CopyOutcome) -> ProvenRecord:
    record = proven.record
    return ProvenRecord(record.path, record.size, outcome.mtime_ns, record.mode, record.blake3, proven.sha512)


def _take(run: Run, file: PlannedFile, outcome: CopyOutcome) -> Proven | None:
    """Enter one outcome into the account."""
    entry = file.entry
    if outcome.state in _FAULTS:
        run.left.append(LeftBehind(entry.path, entry.size, outcome.why, True, entry.mtime_ns))
        return None
    if outcome.state != "ok":
        return None
    if outcome.again:
        run.again.append(entry.path)
    run.grown += outcome.size - entry.size
    record = FileRecord(file.stored, outcome.size, outcome.mtime_ns, outcome.mode, outcome.blake3.hex(), file.role)
    proven = Proven(record, outcome.sha512.hex())
    run.proven[file.stored] = proven
    run.sources[file.stored] = outcome.size
    return proven


def _second_look(run: Run) -> tuple[tuple[str, ...], tuple[str, ...]]:
    """Walk the library again: what appeared, and what changed after it had been copied."""
    plan = run.plan
    if plan.library.shape == "file":
        return (), ()
    before = {f.path: (f.size, f.mtime_ns) for f in plan.listing.files}
    captured = {d.file.entry.path for d in plan.databases}
    captured.update(c.entry.path for d in plan.databases for c in d.companions)
    copied = {f.entry.path: f.stored for f in plan.files}
    appeared, moved_on = [], []
    for stray in plan.strays:
        now = entry_of(stray.entry.path)
        if now is None or (now.size, now.mtime_ns) != (stray.entry.size, stray.entry.mtime_ns):
            moved_on.append(stray.entry.path)
    for entry in walk(str(plan.library.path)).files:
        if entry.path in captured or plan.library.kind.lock_patterns.match(entry.path):
            continue
        then = before.get(entry.path)
        if then is None:
            # Of parts only what was asked for is watched.
            if not plan.selection.parts and not entry.path.endswith(COMPANIONS):
                appeared.append(entry.path)
            continue
        proven = run.proven.get(copied.get(entry.path, ""))
        if proven is not None and (proven.record.size, proven.record.mtime_ns) != (
            entry.size,
            entry.mtime_ns,
        ):
            moved_on.append(entry.path)
    return tuple(appeared), tuple(moved_on)


def _origin(plan: ArchivePlan) -> Origin:
    machine = this_machine(notes.state_folder())
    place = place_of(plan.library.path, Path(os.path.realpath(own_home())))
    standard, relative = place if place is not None else ("", "")
    return Origin(
        machine.id, machine.name, machine.system, to_wire(str(plan.library.path)), standard, to_wire(relative)
    )


def _finish(run: Run) -> str:
    """Write the records and decide the change; return the digest of the tag manifest."""
    plan, bag = run.plan, run.bag
    by_path = sorted(run.proven.values(), key=lambda proven: proven.record.path)
    copied = sum(run.sources.values())
    kept = {p.record.path.removeprefix("library/") for p in by_path}
    kept.update(stored.removeprefix("library/") for stored in plan.folders.values())
    library = LibraryRecord(
        format=records.FORMAT,
        name=plan.library.name,
        kind=plan.library.kind.name,
        kind_title=plan.library.kind.title,
        application=plan.library.kind.application,
        shape=plan.library.shape,
        origin=_origin(plan),
        edition=1,
        archived=now_text(),
        archived_with=version(),
        totals=Totals(
            plan.files_found,
            plan.bytes_found + run.grown,
            len(by_path),
            copied,
            len(run.left),
            sum(one.size for one in run.left),
            sum(proven.record.size for proven in by_path),
        ),
        folders=tuple(FolderRecord(to_wire(f.path), f.mtime_ns, f.mode, f.empty) for f in plan.listing.folders),
        links=tuple(LinkRecord(to_wire(k.path), to_wire(k.target), k.mtime_ns) for k in plan.listing.links),
        hard_links=tuple(tuple(to_wire(path) for path in group) for group in plan.hard_links),
        changed_names=tuple(
            ChangedName(to_wire(path), stored) for path, stored in plan.changed_names.items() if stored in kept
        ),
        databases=tuple(run.captured),
        left_out=tuple(LeftOut(to_wire(o.path), o.size, o.why, o.mtime_ns) for o in run.left),
        parts=tuple(PartRecord(p.what, p.name, p.title, len(p.files), p.bytes) for p in plan.contents.parts),
        partial=tuple(sorted(part.name for part in plan.selection.parts)),
        strays=_stray_records(run),
        strays_left=tuple(
            LeftOut(to_wire(s.entry.path), s.entry.size, s.why_not, s.entry.mtime_ns)
            for s in plan.selection.strays_not_taken
        ),
        references=_counts(plan),
        incomplete=any(one.fault for one in run.left),
    )
    top = bagging.write_tags(bag, plan.bag, library, by_path)
    _flush_folders(run)
    bagging.commit_new(bag)
    return top


def _stray_records(run: Run) -> tuple[StrayRecord, ...]:
    stored = {file.entry.path: file.stored for file in run.plan.files if file.stray}
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


def _counts(plan: ArchivePlan) -> ReferenceCounts:
    states = Counter(reference.state for reference in plan.contents.references.references)
    return ReferenceCounts(states["inside"], states["stray"], states["missing"], states["away"])


def _flush_folders(run: Run) -> None:
    """Bring the names in all new folders to the medium before the change is decided."""
    payload = run.bag / bagging.PAYLOAD
    if run.plan.whole_sync and hasattr(os, "O_DIRECTORY"):
        fd = os.open(payload, os.O_RDONLY)
        try:
            if medium.flush_filesystem(fd):
                return
        finally:
            os.close(fd)
    for folder, _, _ in os.walk(run.bag / journal.PENDING):
        medium.flush_folder(folder)


def _note(run: Run, result: ArchiveResult, top: str) -> None:
    chest = run.plan.chest
    try:
        notes.append_many(
            [
                ("chest", {"id": chest.id, "label": chest.label, "folder": str(chest.folder)}),
                (
                    "archive",
                    {
                        "chest": chest.id,
                        "bag": result.bag,
                        "origin": shown(str(run.plan.library.path)),
                        "edition": 1,
                        "files": result.files_copied,
                        "bytes": result.bytes_stored,
                        "top": top,
                    },
                ),
            ]
        )
    except DuneChestError:
        pass  # the chest itself holds everything; only this machine's memory of it is missing
