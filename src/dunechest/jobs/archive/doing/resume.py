"""Make the folders, and take up what an interrupted run of the same library had proven."""

from __future__ import annotations

import msgspec

from dunechest.chest import journal, records
from dunechest.chest.file_table import Proven
from dunechest.chest.layout import DUNE, FOR, LIBRARY_FOLDER, OUTSIDE_FILES, PAYLOAD, PENDING, PROVEN
from dunechest.chest.origin import origin_of
from dunechest.chest.records import FileRecord, ProvenRecord
from dunechest.errors import RefusedError
from dunechest.jobs.archive.doing.edition_record import outside_folders
from dunechest.jobs.archive.doing.run import Run
from dunechest.model.archive import ArchivePlan
from dunechest.names import shown
from dunechest.paths import is_link
from dunechest.transfer import disk, safe
from dunechest.transfer.walk import walk


def prepare(run: Run) -> None:
    """Make the folders, and take up what an earlier run of the same library had proven."""
    plan, bag = run.plan, run.bag
    pending = bag / PENDING
    owner = msgspec.json.encode((origin_of(plan.library.path), plan.edition))
    if is_link(pending) or is_link(bag) or is_link(bag / DUNE):
        raise RefusedError(f"{shown(str(bag))} is or holds a link where a folder belongs. Nothing was changed.")
    if pending.exists():
        journal.refuse_if_decided(bag)
        try:
            ours = safe.read_bounded(bag / FOR, 1 << 20) == owner
        except (OSError, ValueError):
            ours = False
        if ours and (bag / PAYLOAD).is_dir() and not is_link(bag / PAYLOAD):
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
        return {LIBRARY_FOLDER, *plan.folders.values(), *outside_folders(plan)}
    every = [*plan.files_to_read, *(database.file for database in (*plan.databases, *plan.kept_databases))]
    every += [companion for database in plan.databases for companion in database.companions]
    if plan.options.read_all:
        every += plan.kept
    return {LIBRARY_FOLDER, *(file.stored_as.rpartition("/")[0] for file in every)}


def _take_up(run: Run) -> None:
    """Believe what the list of proven files says, where the file is there and its source is as it was."""
    payload = run.bag / PAYLOAD
    wanted = {file.stored_as: file for file in run.plan.files_to_read}
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
    # Empty folders of a library that has changed since must not are included.
    wanted_folders = {*_folders(run.plan), OUTSIDE_FILES.rstrip("/")}
    for folder in sorted((f.path for f in walk(str(payload)).folders), reverse=True):
        if folder and folder not in wanted_folders:
            try:
                disk.remove_folder(payload / folder)
            except OSError:
                continue
