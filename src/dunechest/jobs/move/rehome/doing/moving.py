"""Carry out a move: a proven copy first, then the application's setting or the link, and the original gets another name.

At every moment the library is whole where its application looks for it: the copy takes its place when it is complete, and
link and original change places in one step, where the system can. Each step is written down before it is taken; a move that
fails is undone.
"""

from __future__ import annotations

import os
import stat
import time
from collections.abc import Collection
from pathlib import Path

import msgspec
from blake3 import blake3

from dunechest.errors import CutOffError, DuneChestError, RefusedError, refuse_blocked
from dunechest.jobs.known.homes import is_marked, mark_content, mark_of, must_note_move, note_place
from dunechest.jobs.move.rehome.doing.copy import copy, dress_folders, flush, give_attributes, refuse_in_use
from dunechest.jobs.move.rehome.doing.run import Run
from dunechest.jobs.restore.aside import nothing_in
from dunechest.jobs.restore.doing.attributes import set_time_and_mode
from dunechest.jobs.restore.doing.folders import make_above
from dunechest.jobs.restore.doing.references import RewrittenFiles, write_references
from dunechest.jobs.restore.doing.settings import write_setting
from dunechest.jobs.restore.doing.staging import remove
from dunechest.jobs.undo.doing import undo_change
from dunechest.ledger import past_changes
from dunechest.ledger.asides import AsideFile, write_aside
from dunechest.ledger.past_changes import Aside, ChangedLink, Listed, Made, Swapped, Tree, WasEmpty, Working
from dunechest.machine import folder_links
from dunechest.machine.processes import lives
from dunechest.model.findings import finding_of
from dunechest.model.rehome import RehomePlan, RehomeResult
from dunechest.names import shown, to_line, to_wire
from dunechest.paths import is_link
from dunechest.progress import Progress, silent
from dunechest.transfer import disk, safe
from dunechest.transfer.owner import give, owner_above
from dunechest.transfer.walk import walk

_MARK = "moving.json"


class _Mark(msgspec.Struct, frozen=True):
    """Whose working folder it is: the library's folder, and the process that is or was at it."""

    library: str
    pid: int = 0


def carry_out(plan: RehomePlan, *, progress: Progress = silent, command: str = "") -> RehomeResult:
    """Move the library of a plan.

    Parameters
    ----------
    plan : RehomePlan
        From `plan_rehome`.
    progress : Progress
        Told how far it is.
    command : str
        Something that all changes of one command have in common: they are undone together.

    Returns
    -------
    RehomeResult

    Raises
    ------
    RefusedError
        If a blocking finding remains, or something is in the way by now.
    ChangedMeanwhileError
        If the library changed while it was copied.
    CutOffError
        If the drive is full, gone or failing. What was done by then is undone.
    """
    refuse_blocked("Refused: nothing was moved, because {} cannot be moved like this.", {plan.name: plan.blocked})
    begun = time.monotonic()
    staging = plan.new_path.parent / f".dune-restore-move-{plan.new_path.name[:100]}"
    _take(staging, plan)
    past_change = past_changes.begin("rehome", plan.name, to_wire(str(plan.old_path)), command, id=plan.id)
    try:
        result = _move(Run(plan, staging, past_change, progress), begun)
    except OSError as error:
        _give_up(staging, past_change)
        if isinstance(error, CutOffError):
            raise
        raise CutOffError(
            f"The move of {shown(plan.name)} was interrupted: {error.strerror or error}. The library is where it was; the same "
            "command starts again."
        ) from error
    except BaseException:
        _give_up(staging, past_change)
        raise
    past_change.close()
    return result


def _take(staging: Path, plan: RehomePlan) -> None:
    """Make sure that the folder to work in can be made; what an interrupted move of the same library left goes."""
    if not os.path.lexists(staging):
        return
    try:
        mark = msgspec.json.decode(safe.read_bounded(staging / _MARK, 1 << 16), type=_Mark)
    except (OSError, ValueError, msgspec.MsgspecError):
        mark = _Mark("")
    if is_link(staging) or mark.library != to_line(str(plan.path)):
        raise RefusedError(
            f"{shown(str(staging))} is in the way and was not left by a move of this library. Inspect it and move it away."
        )
    if mark.pid != os.getpid() and lives(mark.pid):
        raise RefusedError(
            f"Process {mark.pid} is moving this library right now. Nothing was changed; wait until it is done."
        )
    remove(staging)


def _give_up(staging: Path, past_change: past_changes.OpenChange) -> None:
    remove(staging)
    known = next((item for item in past_changes.past_changes() if item.number == past_change.number), None)
    try:
        if known is not None:
            undo_change(known)
    except (OSError, DuneChestError):
        pass  # a drive that is gone: the next command that moves, restores or undoes finishes this


def _move(run: Run, begun: float) -> RehomeResult:
    plan, past_change = run.plan, run.past_change
    make_above(plan.new_path.parent, past_change)
    past_change.will(Working(to_wire(str(run.staging))))
    disk.make_folder(run.staging)
    os.chmod(run.staging, 0o700)
    mark = _Mark(to_line(str(plan.path)), os.getpid())
    safe.write_file(run.staging / _MARK, msgspec.json.encode(mark))
    copy(run)
    run.tell("updating-references")
    rewritten = write_references(
        plan.kind, plan.reference_plan.updates, run.tree.joinpath, plan.new_path.joinpath, past_change
    )
    give_attributes(run)
    dress_folders(run)
    flush(run.staging, whole=plan.place.whole_sync)
    refuse_in_use(run)
    run.tell("placing")
    _place_outside(run)
    _switch(run, rewritten)
    remove(run.staging)
    for place in past_change.places:  # run by the administrator, what is made in somebody's home is theirs
        if place != plan.new_path and not place.is_relative_to(plan.new_path):
            give(owner_above(place), [place])
    return _summary(run, rewritten, begun)


def _place_outside(run: Run) -> None:
    plan, past_change = run.plan, run.past_change
    for count, item in enumerate(plan.outside):
        make_above(item.place.parent, past_change)
        source = run.outside / str(count)
        info = source.stat()
        if os.path.lexists(item.place):
            raise RefusedError(f"Something is in {shown(str(item.place))} already. Nothing was moved.")
        step = Made(to_wire(str(item.place)), info.st_size, info.st_mtime_ns, "", info.st_dev, info.st_ino)
        past_change.will(step)
        disk.rename(source, item.place)
        disk.flush_folder(item.place.parent)


def _switch(run: Run, rewritten: RewrittenFiles) -> None:
    """Put the copy in its place, have the application find it there, and give the original another name."""
    plan = run.plan
    write_aside(plan.id, _listed(run, {update.file for update in rewritten.done}))
    if plan.back:
        _link_goes(run)
    _tree_into_place(run, rewritten)
    if not plan.back:
        content = mark_content(plan.id, plan.name, plan.old_path)
        digest = blake3(content).hexdigest()
        run.past_change.will(Made(to_wire(str(mark_of(plan.new_path))), len(content), -1, digest))
        safe.write_file(mark_of(plan.new_path), content)
    if not plan.back and not is_marked(plan.new_path, plan.id):
        raise CutOffError("The mark beside the library cannot be read back from that drive. Nothing was moved.")
    for change in plan.settings:
        why = write_setting(change, run.past_change)
        if why:
            raise RefusedError(f"Refused: {why}. The library was not moved.")
    _note(run)
    _original_aside(run)


def _link_goes(run: Run) -> None:
    """Remove the link in the old place, so that the library itself can take it."""
    plan = run.plan
    if plan.link_before and folder_links.is_link_to(plan.old_path, plan.link_before):
        run.past_change.will(ChangedLink(to_wire(str(plan.old_path)), to_wire(plan.link_before), ""))


def _tree_into_place(run: Run, rewritten: RewrittenFiles) -> None:
    plan, past_change, tree, target = run.plan, run.past_change, run.tree, run.plan.new_path
    listing = walk(str(tree))
    lines = [Listed(to_wire(f.path), f.size, f.mtime_ns) for f in listing.files]
    lines += [Listed(to_wire(f.path), -1, 0) for f in listing.folders if f.path]
    lines += [Listed(to_wire(link.path), -2, 0) for link in listing.links]
    link = plan.back and plan.link_before and folder_links.is_link_to(target, plan.link_before)
    if os.path.lexists(target) and not link:
        info = target.lstat()
        if not stat.S_ISDIR(info.st_mode) or not nothing_in(target):
            raise RefusedError(f"Something appeared in {shown(str(target))} meanwhile. Nothing was moved.")
        past_change.will(WasEmpty(to_wire(str(target)), stat.S_IMODE(info.st_mode)))
        disk.remove_bare_folder(target)
    own = tree.stat()
    past_change.will(Tree(to_wire(str(target)), past_change.listing(lines), own.st_dev, own.st_ino), *rewritten.steps)
    if link and folder_links.exchange(tree, target):
        folder_links.remove_link(tree)
    else:
        if link:
            folder_links.remove_link(target)
        disk.rename(tree, target)
    top = next((folder for folder in plan.folders if not folder.path), None)
    if top is not None:
        set_time_and_mode(target, top.mtime_ns, top.mode)
    disk.flush_folder(target.parent)


def _original_aside(run: Run) -> None:
    """Give the original its other name; with a link, the link takes its place in the same moment."""
    plan, past_change = run.plan, run.past_change
    source, aside, old, target = plan.path, plan.set_aside_path, plan.old_path, plan.new_path
    if os.path.lexists(aside):
        raise RefusedError(f"{shown(str(aside))} appeared meanwhile. Nothing was moved.")
    link = plan.way == "link" and not plan.back
    if link and old == source:
        past_change.will(Swapped(to_wire(str(old)), to_wire(str(aside)), to_wire(str(target))))
        folder_links.make_link(aside, target)
        if not folder_links.exchange(old, aside):
            folder_links.remove_link(aside)
            disk.rename(old, aside)
            folder_links.make_link(old, target)
    else:
        if link or (plan.link_before and not plan.back):
            _link_elsewhere(run)
        past_change.will(Aside(to_wire(str(source)), to_wire(str(aside))))
        disk.rename(source, aside)
        _old_mark_goes(run)
    disk.flush_folder(source.parent)


def _link_elsewhere(run: Run) -> None:
    """Have the link in the old place lead to the new one, in one step."""
    plan = run.plan
    old, after = plan.old_path, str(plan.new_path) if plan.way == "link" else ""
    if not plan.link_before and os.path.lexists(old):
        raise RefusedError(f"Something that is no link is in {shown(str(old))}. Nothing was moved.")
    run.past_change.will(ChangedLink(to_wire(str(old)), to_wire(plan.link_before), to_wire(after)))
    if not after:
        folder_links.remove_link(old)
        return
    beside = old.with_name(f"{past_changes.WORKING[0]}link-{old.name[:100]}")
    run.past_change.will(Working(to_wire(str(beside))))
    folder_links.make_link(beside, after)
    if os.path.lexists(old) and folder_links.exchange(beside, old):
        folder_links.remove_link(beside)
    else:
        if os.path.lexists(old):
            folder_links.remove_link(old)
        disk.rename(beside, old)


def _old_mark_goes(run: Run) -> None:
    """Set the mark beside the former place on a drive aside with the original: the library is not there any more."""
    mark = mark_of(run.plan.path)
    if mark.is_file() and not is_link(mark):
        other = mark_of(run.plan.set_aside_path)
        run.past_change.will(Aside(to_wire(str(mark)), to_wire(str(other))))
        disk.rename(mark, other)


def _listed(run: Run, updated: Collection[str]) -> list[AsideFile]:
    plan = run.plan
    found = []
    for file in plan.files:
        size, mtime_ns, digest = run.proven[file.path]
        found.append(AsideFile(to_wire(file.path), size, mtime_ns, digest.hex(), file.mode, file.path in updated))
    found += [AsideFile(to_wire(folder.path), -1, 0, "", folder.mode) for folder in plan.folders]
    found += [AsideFile(to_wire(link.path), -2, 0) for link in plan.links]
    return found


def _note(run: Run) -> None:
    """Write down where the library is from now on."""
    plan = run.plan
    old = to_line(str(plan.old_path))
    facts = {
        "old": old, "id": plan.id, "name": shown(plan.name), "kind": plan.library.kind.name,
        "place": to_line(str(plan.new_path)), "below": to_line(plan.below), "drive": shown(plan.drive), "way": plan.way,
        "identity": plan.identity, "back": plan.back, "move": plan.id,
    }  # fmt: skip
    of_aside = {"id": plan.id, "name": shown(plan.name), "old": old, "listing": plan.id}
    must_note_move(facts, plan.set_aside_path, of_aside)
    note_place(plan.new_path, shown(plan.name), plan.library.kind.name)


def _summary(run: Run, rewritten: RewrittenFiles, begun: float) -> RehomeResult:
    plan = run.plan
    findings = [f for f in plan.findings if f.severity != "blocks" and f.code not in ("references-lost",)]
    if run.missed:
        first = sorted(run.missed)[0]
        findings.append(
            finding_of(
                "attributes-missing/rehome", entries=len(run.missed), first=shown(first) or "the library itself"
            )
        )
    return RehomeResult(
        name=plan.name,
        application=plan.library.kind.application,
        path=plan.path,
        new_path=plan.new_path,
        old_path=plan.old_path,
        drive=plan.drive,
        way=plan.way,
        back=plan.back,
        set_aside_path=plan.set_aside_path,
        file_count=len(run.proven),
        size_bytes=sum(size for size, _, _ in run.proven.values()),
        link_count=len(plan.links),
        updated_references=rewritten.done,
        references_by_hand=(*plan.reference_plan.lost, *rewritten.by_hand),
        settings=plan.settings,
        unmoved_files=plan.unmoved_files,
        outside_files=plan.outside_files,
        findings=tuple(findings),
        seconds=time.monotonic() - begun,
    )
