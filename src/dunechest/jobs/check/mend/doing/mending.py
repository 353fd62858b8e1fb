"""Mend a library in a chest as planned: only what is damaged is written, each file proven before it takes its place."""

from __future__ import annotations

import os
from collections.abc import Iterator
from itertools import chain
from pathlib import Path

import msgspec

from dunechest.chest import journal
from dunechest.chest.bag_records import BagRecords, stamp
from dunechest.chest.chest import Chest
from dunechest.chest.commit import commit, finish_decided, flush_pending, tag_steps
from dunechest.chest.journal import Rename
from dunechest.chest.layout import DATA, DATA_FOLDER, MOVED, PAYLOAD, PENDING, PENDING_TAGS
from dunechest.errors import CutOffError, DuneChestError, RefusedError
from dunechest.jobs.known.holdings import note_holdings
from dunechest.jobs.known.logs import keep_in_step
from dunechest.jobs.known.this_computer import machine_name
from dunechest.jobs.study.supplies import LibrarySupplier, Supplier, Supplies, bag_suppliers
from dunechest.ledger import events
from dunechest.library.library import Library
from dunechest.machine.volumes import identity
from dunechest.model.mend import FileToMend, MendedFile, MendPlan, MendResult
from dunechest.names import from_wire, parents, shown
from dunechest.paths import is_link
from dunechest.progress import Progress, Tally, silent
from dunechest.transfer import disk, safe
from dunechest.transfer.digest_files import digest_of
from dunechest.values import PathAndWhy


class _Run(msgspec.Struct):
    """What gathers while a plan is carried out."""

    plan: MendPlan
    bag: Path
    mended: list[MendedFile] = msgspec.field(default_factory=list)
    bytes: int = 0
    failed: list[PathAndWhy] = msgspec.field(default_factory=list)


def carry_out(plan: MendPlan, *, progress: Progress = silent) -> MendResult:
    """Replace what is damaged in one library of a chest.

    Parameters
    ----------
    plan : MendPlan
        From `plan_mend`.
    progress : Progress
        Told how far it is.

    Returns
    -------
    MendResult

    Raises
    ------
    RefusedError
        If the library has changed since the plan was made. Nothing was changed.
    CutOffError
        If a drive is full, gone or failing. Nothing that was there is lost; the same command continues.
    """
    run = _Run(plan, plan.chest.bag_folder(plan.name))
    if plan.records or plan.wanted or plan.renamed:
        with plan.chest.changing(machine_name()):
            finish_decided(run.bag)
            if stamp(run.bag) != plan._stamp:
                raise RefusedError(
                    f"{shown(plan.name)} has changed meanwhile. Nothing was mended; run the command again."
                )
            try:
                _mend(run, progress)
            except OSError as error:
                raise CutOffError(_cut_off_words(plan, error.strerror or str(error))) from error
    result = MendResult(
        plan.name,
        plan.checked_count,
        tuple(sorted(run.mended)),
        run.bytes,
        tuple(sorted((*plan.unmendable_files, *run.failed))),
        plan.other_files,
        plan.findings,
    )
    _note(plan, result, progress)
    return result


def _mend(run: _Run, progress: Progress) -> None:
    plan, bag = run.plan, run.bag
    journal.clear(bag)
    for path, content in plan.records.items():
        _write_record(run, path, content)
    into = []
    supplies = Supplies(_suppliers(plan))
    tally = Tally(progress, "mending", len(plan.wanted), plan.damaged_bytes, plan.name)
    for done, item in enumerate(plan.wanted):
        pending = (
            f"{PAYLOAD}/{item.path[len(DATA) :]}" if item.path.startswith(DATA) else f"{PENDING_TAGS}/{item.path}"
        )
        whose = supplies.fetch(item.blake3, item.path, bag / pending)
        tally.files_done = done + 1
        tally(item.size)
        if whose is None:
            run.failed.append(PathAndWhy(item.path, f"{item.why}, and intact in none of the other copies"))
            continue
        if item.path.startswith(DATA):
            _dress(bag / pending, item)
            into.append(Rename(pending, item.path))
        run.mended.append(MendedFile(item.path, whose))
        run.bytes += item.size
    steps = tag_steps(bag) if (bag / PENDING_TAGS).is_dir() else ()
    aside = tuple(Rename(other, f"{MOVED}/{number}") for number, (other, _) in enumerate(plan.renamed))
    into += [Rename(step.new, path) for step, (_, path) in zip(aside, plan.renamed, strict=True)]
    run.mended += [MendedFile(path, f"{other}, renamed") for other, path in plan.renamed]
    if not into and not steps:
        journal.clear(bag)
        return
    for step in (*into, *steps):
        if (bag / step.new).is_dir() and not is_link(bag / step.new):
            disk.remove_folder(bag / step.new)  # an empty one: the plan looked
    disk.make_folder(bag / PENDING)
    flush_pending(bag, whole=False)
    commit(bag, (aside, tuple(into), steps, _left_empty(plan)))


def _left_empty(plan: MendPlan) -> tuple[Rename, ...]:
    """Return the removal of folders whose files are renamed: one in which something else lies stays."""
    folders = {above for other, _ in plan.renamed for above in parents(other)} - {DATA_FOLDER}
    folders -= {above for _, path in plan.renamed for above in parents(path)}
    return tuple(Rename(folder, "") for folder in sorted(folders, reverse=True))


def _write_record(run: _Run, path: str, content: bytes) -> None:
    """Write a record beside, and read it back."""
    from blake3 import blake3

    place = run.bag / PENDING_TAGS / path
    disk.make_folder(place.parent)
    fd = disk.create(place, os.O_WRONLY | os.O_CREAT | os.O_TRUNC | getattr(os, "O_BINARY", 0), 0o644)
    try:
        safe.write_all(fd, content)
        disk.flush_file(fd)
    finally:
        os.close(fd)
    if digest_of(place) != blake3(content).hexdigest():
        raise CutOffError(_cut_off_words(run.plan, "the drive returns other data than was written to it"))
    run.mended.append(MendedFile(path, "other records"))
    run.bytes += len(content)


def _dress(place: Path, item: FileToMend) -> None:
    """Give a file the time and mode that were recorded, as far as the filesystem has such things."""
    try:
        os.chmod(place, item.mode)
        os.utime(place, ns=(item.mtime_ns, item.mtime_ns))
    except OSError:
        pass  # they are recorded beside the file, too


def _suppliers(plan: MendPlan) -> Iterator[Supplier]:
    """Yield who may have intact bytes: the bag itself in another place, other chests, the library."""
    bag = plan.chest.bag_folder(plan.name)
    own = [(f"another place in {shown(plan.chest.label)}", BagRecords(bag))]
    library = [] if plan.library is None else [_of_library(plan.library, bag)]
    return chain(bag_suppliers(own), library, bag_suppliers(_bags(plan)))


def _of_library(library: Library, bag: Path) -> Supplier:
    try:
        changed = BagRecords(bag).library().changed_names
    except DuneChestError:
        changed = ()
    names = {item.stored: from_wire(item.path) for item in changed}
    return LibrarySupplier("the library", library.path, names)


def _bags(plan: MendPlan) -> Iterator[tuple[str, BagRecords]]:
    """Yield the bags of other chests, that of the same name first."""
    later: list[tuple[Chest, str, BagRecords]] = []
    for helper in plan.helpers:
        for entry in helper.bags():
            if entry.library is None:
                continue
            if entry.name == plan.name:
                yield shown(helper.label), entry.records
            else:
                later.append((helper, entry.name, entry.records))
    for chest, name, own in later:
        yield f"{shown(chest.label)}/{shown(name)}", own


def _note(plan: MendPlan, result: MendResult, progress: Progress) -> None:
    """Write down the outcome as a check: every file was read, and what was replaced was read back."""
    chest = plan.chest
    facts = {
        "chest": chest.id,
        "bag": plan.name,
        "quick": False,
        "intact": result.ok and not plan.other_files,
        "files": result.checked_count,
        "wrong": len(result.unmended_files),
        "how": "mend",
        "where": identity(chest.folder),
    }
    events.try_append(("check", facts))
    gone = () if os.path.lexists(chest.bag_folder(plan.name)) else (plan.name,)
    note_holdings(chest, [entry for entry in chest.bags() if entry.name == plan.name], gone, progress=progress)
    keep_in_step(chest)


def _cut_off_words(plan: MendPlan, why: str) -> str:
    return (
        f"Mending {shown(plan.name)} in {shown(plan.chest.label)} was interrupted: {why}. Nothing that was there is lost. Run "
        "the same command again to continue."
    )
