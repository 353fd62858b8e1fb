"""Carry out a restore plan: every file checked by digest as it is written, nothing existing lost.

The library is put together in a folder of its own beside its place, its references updated there,
and put in its place when it is whole, so that an application never meets half of it. Each step that changes
what was on this computer is written down before it is taken; a restore that fails is undone.
"""

from __future__ import annotations

import os
import shutil
import time
from collections.abc import Callable, Iterable, Mapping, Sequence
from pathlib import Path

import msgspec

from dunechest.chest.bag_records import BagRecords, stamp
from dunechest.chest.layout import BAGS, CHEST_RECORD, DECLARATION, bag_folder
from dunechest.chest.states import states_of_bag
from dunechest.errors import ChangedMeanwhileError, CutOffError, DuneChestError, refuse_blocked
from dunechest.findings import blocking
from dunechest.jobs.known.holdings import note_damage, state_note
from dunechest.jobs.restore.doing.attributes import dress_unreadable
from dunechest.jobs.restore.doing.folders import make_above
from dunechest.jobs.restore.doing.into_place import join_into_place, whole_into_place
from dunechest.jobs.restore.doing.join import merge_files, only_those
from dunechest.jobs.restore.doing.outside_files import restore_outside_files
from dunechest.jobs.restore.doing.owners import give_back
from dunechest.jobs.restore.doing.proof import prove
from dunechest.jobs.restore.doing.references import RewrittenFiles, write_references
from dunechest.jobs.restore.doing.run import Run
from dunechest.jobs.restore.doing.settings import write_setting
from dunechest.jobs.restore.doing.staging import fill_staging, finish, remove, take_staging, write
from dunechest.jobs.restore.old_place import CODE, old_place_findings
from dunechest.jobs.undo.doing import undo_change
from dunechest.ledger import events, past_changes
from dunechest.ledger.ledger import open_ledger
from dunechest.library.kinds.patterns import Patterns
from dunechest.library.still_named import OldPlace, pattern_of, still_named
from dunechest.model.restore import (
    MergeResult,
    NotDone,
    RestoreOutsideFile,
    RestorePlan,
    RestoreResult,
    SettingChange,
    UpdatedSetting,
)
from dunechest.names import shown, to_wire
from dunechest.progress import Progress, silent
from dunechest.transfer import patient
from dunechest.transfer.digest_files import digest_files
from dunechest.transfer.helpers import dismiss, start_ahead
from dunechest.transfer.owner import give, owner_above
from dunechest.transfer.tasks import DigestTask
from dunechest.transfer.workers import workers_for
from dunechest.values import MovedPath


def refuse_if_stopped(plans: Iterable[RestorePlan]) -> None:
    """Raise `RefusedError` if any plan has a blocking finding; none of a restore yields."""
    blocked = {plan.name: blocking(plan.findings) for plan in plans}
    refuse_blocked("Refused: nothing was restored, because {} cannot be restored like this.", blocked)


def carry_out_once(
    plan: RestorePlan, *, progress: Progress = silent, drill: bool = False, command: str = ""
) -> RestoreResult:
    """Restore the library of a plan.

    Parameters
    ----------
    plan : RestorePlan
        From `plan_restore`.
    progress : Progress
        Told how far it is.
    drill : bool
        It goes to a scratch folder and is thrown away: that the application is open does not matter, and
        nothing of it is there to be undone afterwards.
    command : str
        Something that all restores of one command have in common: they are undone together.

    Returns
    -------
    RestoreResult

    Raises
    ------
    RefusedError
        If a blocking finding remains, or the place is occupied by now.
    ChangedMeanwhileError
        If the archive got another edition since the plan was made.
    CutOffError
        If the target or the chest's drive is full, gone or failing; what was done by then is undone.
    """
    if not drill:
        refuse_if_stopped([plan])
    assert plan.path is not None
    if stamp(_bag(plan)) != plan.stamp:
        raise _changed(plan)
    begun = time.monotonic()
    staging = _staging_of(plan, plan.path)
    take_staging(staging, plan)  # only what this run has made, or taken over by its mark, is ever removed again
    state = "" if drill else _state_to_come(plan)
    new = state if state and not _had(plan.path, state) else ""
    past_change = past_changes.begin("restore", plan.name, to_wire(str(plan.path)), command, state=new)
    try:
        result = _restore(Run(plan, plan.path, staging, past_change, progress), begun)
    except BaseException as error:
        _give_up(staging, past_change)
        if isinstance(error, CutOffError) or not isinstance(error, OSError):
            raise
        raise CutOffError(
            f"The restore of {shown(plan.name)} was interrupted: {error.strerror or error}. What it had done was undone, "
            f"and {shown(str(plan.path))} is unchanged; the same command starts again."
        ) from error
    past_change.close("undone" if drill else "done")
    note_damage(plan.chest, plan.name, sum(item.damage for item in result.not_restored))
    if drill:
        past_changes.forget(past_change.number)
        return result
    _note(plan, plan.path, result.file_count, state)
    return result


def _note(plan: RestorePlan, place: Path, files: int, state: str) -> None:
    """Note a restore. The files are in place; without the note only this computer forgets that."""
    facts = {"chest": plan.chest.id, "bag": plan.name, "place": shown(str(place)), "files": files}
    record = msgspec.structs.replace(plan.record, state=state)
    events.try_append(("restore", facts), *([state_note(place, record)] if state else []))


def _state_to_come(plan: RestorePlan) -> str:
    """Return the state that a restore brings, empty if it is none of the whole library or cannot be told."""
    if plan.chosen_parts or plan.options.parts or plan.options.files:
        return ""
    if plan.record.state:
        return plan.record.state
    own = BagRecords(_bag(plan))
    try:
        return states_of_bag(own, own.library()).get(plan.record.edition, "")
    except DuneChestError:
        return ""


def _had(place: Path, state: str) -> bool:
    """Whether the library in a place had a state before."""
    try:
        with open_ledger() as ledger:
            return state in ledger.states_at({shown(str(place))})
    except DuneChestError:
        return False


def _staging_of(plan: RestorePlan, place: Path) -> Path:
    """Return the folder to work in: beside the place, or in it where that is the top of a drive."""
    above = place if os.path.ismount(place) else place.parent
    return above / f".dune-restore-{plan.chest.id[:8]}-{plan.name}"


def _bag(plan: RestorePlan) -> Path:
    return bag_folder(plan.chest.folder, plan.name)


def _changed(plan: RestorePlan) -> ChangedMeanwhileError:
    return ChangedMeanwhileError(
        f"The archive of {shown(plan.name)} was changed while it was read. Nothing was changed here; run the command again."
    )


def _refuse_half(plan: RestorePlan, not_done: Iterable[NotDone]) -> None:
    """Before anything is put in place: tell a drive that went away, or a new edition, from damage.

    Raises
    ------
    CutOffError
        If the chest's drive is gone.
    ChangedMeanwhileError
        If the archive was changed meanwhile.
    """
    if not any(item.fault for item in not_done):
        return
    if stamp(_bag(plan)) != plan.stamp:
        if not (plan.chest.folder / BAGS).is_dir():
            raise CutOffError(_GONE.format(shown(plan.chest.label)))
        raise _changed(plan)
    # What is still in memory proves nothing: a small record is read from the medium.
    records = [plan.chest.folder / CHEST_RECORD, _bag(plan) / DECLARATION]
    there = [path for path in records if os.path.lexists(path)]
    outcomes = digest_files([DigestTask(os.fsencode(path), 4096) for path in there], lambda count: None)
    if not there or all(outcome.state != "ok" for outcome in outcomes):
        raise CutOffError(_GONE.format(shown(plan.chest.label)))


_GONE = "The drive of the chest {} is gone or can no longer be read."


def _give_up(staging: Path, past_change: past_changes.OpenChange) -> None:
    """Undo what was done, and remove the folder to work in."""
    remove(staging)
    known = next((item for item in past_changes.past_changes() if item.number == past_change.number), None)
    try:
        if known is not None:
            undo_change(known)
    except OSError:
        pass  # a drive that is gone: the next command that restores or undoes finishes this


def _restore(run: Run, begun: float) -> RestoreResult:
    plan, past_change = run.plan, run.past_change
    # They are ready by the time that all folders are made; while it was planned they would have been in the way.
    start_ahead(workers_for(len(plan.existing.to_write), sum(file.size for file in plan.existing.to_write)))
    owner = owner_above(run.place)
    make_above(run.place.parent, past_change)
    past_change.will(past_changes.Working(to_wire(str(run.staging))))
    fill_staging(run)
    write(run)
    dismiss(all_but=0)
    run.tell("placing")
    _refuse_half(plan, run.not_done)
    staged = _staged(run)
    merged: tuple[MergeResult, ...] = ()
    if plan.chosen_parts and plan.existing.mode != "merge":
        merged = tuple(only_those(plan, staged))
    rewritten = write_references(plan.kind, plan.references.updates, staged.get, _final_places(run), past_change)
    if plan.existing.mode == "merge":
        merged, rewritten = _merge(run, staged, rewritten)
    else:
        finish(run)
        whole_into_place(run, rewritten.steps)
    remove(run.staging)
    outside = restore_outside_files(run)
    settings = tuple((change, write_setting(change, past_change)) for change in plan.settings)
    give(owner, past_change.places)  # run by the administrator, it is for the person whose home it is
    run.missed = give_back(run)
    run.tell("checking-result")
    return _summary(run, merged, rewritten, outside, settings, begun)


def _final_places(run: Run) -> Callable[[str], Path]:
    """Return what tells the place of a file of the library, by its path in the library."""
    names = {file.own: file.path for file in run.plan.files}
    others = {file.own: other for file, other in run.plan.existing.beside}

    def final(own: str) -> Path:
        return run.place if run.plan.record.shape == "file" else run.place / others.get(own, names[own])

    return final


def _merge(
    run: Run, staged: Mapping[str, Path], rewritten: RewrittenFiles
) -> tuple[tuple[MergeResult, ...], RewrittenFiles]:
    """Merge the library into the one that is there; return what merging did, and all references that were updated."""
    plan, existing, final = run.plan, run.plan.existing, _final_places(run)
    names = {file.own: file.path for file in plan.files}
    own_merged = {file.own for file in existing.merged}
    merged = merge_files(run, staged)
    # A file that is merged or replaced is kept as it was here, not as it came.
    kept = {to_wire(str(final(own))) for own in (*own_merged, *(file.own for file in existing.replaced))}
    run.links = len(plan.links)
    plain = [file for file in run.restored if file.own not in own_merged]
    join_into_place(run, plain, {result.path: result.staged for result in merged if result.staged is not None})
    dress_unreadable(plain, run.place.joinpath)
    run.past_change.will(*(step for step in rewritten.steps if step.path not in kept))
    untouched = {result.path for result in merged if result.staged is None}
    done = tuple(update for update in rewritten.done if names[update.file] not in untouched)
    here = _in_place(run)
    return merged, RewrittenFiles(
        (*done, *here.done), (*rewritten.by_hand, *here.by_hand), (*rewritten.steps, *here.steps)
    )


_NO_NEWS = ("first", "set-aside", "references-lost", "owners", CODE)


def _old_place(run: Run) -> OldPlace:
    """Look again for what names the old place, in the files as they are here now.

    What the plan found no name in, and what is here byte for byte as it was then, holds none now.
    """
    plan = run.plan
    if not plan.old_place.paths:
        return OldPlace()
    wanted = pattern_of(plan.old_place.paths, (str(run.place), str(plan.options.home_folder)))
    # What is not ours may name whatever it wants.
    files = run.restored
    if plan.existing.mode != "merge":
        other = {file.path for file in plan.old_place.files} | {update.file for update in plan.references.updates}
        files = [file for file in files if file.own in other]
    ours = [(file.path, file.size) for file in files if not os.path.islink(run.place / file.path)]
    return OldPlace(plan.old_place.paths, still_named(ours, run.place.joinpath, wanted))


def _summary(
    run: Run,
    merged: tuple[MergeResult, ...],
    rewritten: RewrittenFiles,
    outside: Sequence[RestoreOutsideFile],
    settings: tuple[tuple[SettingChange, str], ...],
    begun: float,
) -> RestoreResult:
    plan, existing = run.plan, run.plan.existing
    here = (*existing.same, *existing.rewritten)
    replaced = set(run.restored) if existing.replaced else set()
    in_place = len(run.restored) + len(here) + len(existing.kept)
    old = _old_place(run)
    return RestoreResult(
        name=plan.name,
        path=run.place,
        edition=plan.record.edition,
        listed_count=plan.listed,
        file_count=len(run.restored) + len(here) + len(outside),
        size_bytes=sum(
            file.size for file in (*run.restored, *here, *(outside_file.file for outside_file in outside))
        ),
        existing_count=len(here) + sum(outside_file.exists for outside_file in outside),
        kept_paths=tuple(file.path for file in existing.kept),
        renamed_conflicts=existing.conflicts,
        replaced_paths=tuple(file.path for file in existing.replaced if file in replaced),
        folder_count=len(plan.folders),
        link_count=run.links,
        not_restored=tuple(run.not_done),
        renamed=plan.renamed,
        application="" if plan.options.files else plan.record.application,
        # What was to be done or decided before is no news afterwards.
        findings=(
            *(f for f in plan.findings if f.code not in _NO_NEWS),
            *old_place_findings(old, after=True),
            *run.missed,
        ),
        old_place=old,
        proof=prove(plan, run.place, files=in_place, outside_files=len(outside)),
        parts=tuple(part.title for part in plan.chosen_parts),
        outside_files=tuple(MovedPath(outside_file.path, outside_file.new_path) for outside_file in outside),
        set_aside=existing.set_aside,
        updated_references=rewritten.done,
        references_by_hand=(*plan.references.lost, *rewritten.by_hand),
        settings=tuple(
            UpdatedSetting(change.file, change.key, change.old, change.new, why) for change, why in settings
        ),
        merged_files=merged,
        damaged_records=plan.damaged_records,
        undoable=run.past_change.changes,
        seconds=time.monotonic() - begun,
        single_file_paths=tuple(file.path for file in plan.files) if plan.options.files else (),
    )


def _staged(run: Run) -> dict[str, Path]:
    """Return where the files are that something is done to: with references to write, or to be joined."""
    plan, tree = run.plan, run.tree
    wanted = {update.file for update in plan.references.updates} | {file.own for file in plan.existing.merged}
    joins = Patterns(
        tuple(pattern for spec in plan.kind.joins for pattern in spec.files) if plan.chosen_parts else ()
    )
    return {file.own: tree / file.path for file in run.restored if file.own in wanted or joins.match(file.own)}


def _in_place(run: Run) -> RewrittenFiles:
    """Update references in files that were here already, as they came from the other computer."""
    plan, past_change = run.plan, run.past_change
    same = {file.own: run.place / file.path for file in plan.existing.same}
    wanted = [update for update in plan.references.updates if update.file in same]
    by_source = {update.file for update in wanted}
    before: dict[str, Path] = {}
    for source in by_source:
        copy = run.staging / f"rewritten-{len(before)}"
        shutil.copy2(same[source], copy)
        before[source] = copy
    try:
        made = write_references(plan.kind, wanted, before.get, same.__getitem__, past_change)
        past_change.will(*made.steps)
        for source, copy in before.items():
            patient.replace(copy, same[source])
    finally:
        for copy in before.values():
            patient.unlink(copy, missing_ok=True)
    return made
