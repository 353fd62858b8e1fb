"""Carry out an archive plan. It decides nothing: what is not in the plan is not done."""

from __future__ import annotations

import time
from collections.abc import Iterable
from pathlib import Path

from dunechest.chest import journal
from dunechest.chest.bag_records import BagRecords
from dunechest.chest.chest import Chest
from dunechest.chest.commit import finish_decided
from dunechest.chest.layout import DECLARATION
from dunechest.errors import CutOffError, DuneChestError, RefusedError, refuse_blocked
from dunechest.findings import blocking
from dunechest.jobs.archive.doing.copy import copy
from dunechest.jobs.archive.doing.finish import finish
from dunechest.jobs.archive.doing.heal import heal
from dunechest.jobs.archive.doing.resume import prepare
from dunechest.jobs.archive.doing.reuse import Recognised, recognise
from dunechest.jobs.archive.doing.run import Run, cut_off_words
from dunechest.jobs.archive.doing.second_look import SecondLook, look_again, second_look
from dunechest.jobs.archive.doing.summary import summary_of, summary_of_nothing
from dunechest.jobs.archive.doing.supplied import supplied_by
from dunechest.jobs.known.catalogue import top_of
from dunechest.jobs.known.holdings import note_damage, note_holdings
from dunechest.jobs.known.logs import keep_in_step
from dunechest.jobs.known.this_computer import machine_name
from dunechest.ledger import events
from dunechest.machine.volumes import identity
from dunechest.model.archive import ArchivePlan, ArchiveResult
from dunechest.names import shown
from dunechest.progress import Progress, Step, silent
from dunechest.transfer.helpers import dismiss


def refuse_if_stopped(plans: Iterable[ArchivePlan]) -> None:
    """Raise `RefusedError` if a blocking finding of any plan remains that its options do not overrule.

    Raises
    ------
    RefusedError
        With those findings; nothing has been changed.
    """
    blocked = {plan.library.name: blocking(plan.findings, plan.options.ignore) for plan in plans}
    refuse_blocked("Refused: nothing was archived, because {} cannot be archived now.", blocked)


def carry_out(
    plan: ArchivePlan, *, progress: Progress = silent, after: ArchiveResult | None = None, other: Chest | None = None
) -> ArchiveResult:
    """Archive the library of a plan.

    Parameters
    ----------
    plan : ArchivePlan
        From `plan_archive`.
    progress : Progress
        Told how far it is.
    after, other : ArchiveResult and Chest, optional
        What was archived of the same library to another chest just before: what that has unchanged is read there.

    Returns
    -------
    ArchiveResult

    Raises
    ------
    RefusedError
        If a blocking finding remains, or the chest has such a bag by now.
    CutOffError
        If the drive is full, gone or failing. What was proven is taken up by the
        next run of the same plan.
    """
    refuse_if_stopped([plan])
    begun = time.monotonic()
    run = Run(plan, plan.chest.bag_folder(plan.archived_as), left=list(plan.skipped))
    lost = plan.previous.lost if plan.previous is not None else ()
    if plan.previous is not None and plan.state != "unchanged" and not plan.selection.parts:
        # Whatever becomes of it: the library has something now that the chest has not.
        _note_begun(run)
    if plan.state == "unchanged":
        _note_unchanged(plan)
        if not lost:
            return _told(run, summary_of_nothing(run, time.monotonic() - begun))
    if after is not None and other is not None:
        run.supplied = supplied_by(other, after.archived_as)
        # One edition on both, if this run made it: an older moment would be untrue of what is written and read back now.
        if run.supplied is not None and after.state != "unchanged":
            run.archived = run.supplied.own.library().archived
    with plan.chest.changing(machine_name()):
        finish_decided(run.bag)
        _still_as_planned(run)
        try:
            if lost:
                heal(run, lost, progress)
            made = _make_edition(run, progress) if plan.state != "unchanged" else None
        except CutOffError:
            raise
        except OSError as error:
            raise CutOffError(cut_off_words(run, f"{error.strerror or error}")) from error
    if made is None:
        return _told(run, summary_of_nothing(run, time.monotonic() - begun))
    second, top = made
    result = summary_of(run, second, time.monotonic() - begun)
    _note(run, result, top, progress)
    return _told(run, result)


def _told(run: Run, result: ArchiveResult) -> ArchiveResult:
    """Note what was met lost in the chest, and could not be copied again, before it is told: it is no good copy any more."""
    note_damage(run.plan.chest, run.plan.archived_as, len(result.lost_files), always=True)
    return result


def _note_unchanged(plan: ArchivePlan) -> None:
    """Note that a library is as an edition has it, and how much of it could not be seen."""
    try:
        entry = plan.chest.bag(plan.archived_as)
    except DuneChestError:
        return
    note_holdings(plan.chest, [entry], carried={plan.archived_as: len(plan.not_seen_files)}, at=_had_here(plan))
    keep_in_step(plan.chest)


def _had_here(plan: ArchivePlan) -> Path | None:
    """Return the folder of which an edition tells the whole state; None for a part, or one that lacks what could not be seen."""
    return plan.library.path if not plan.selection.parts and not plan.lacks else None


def _make_edition(run: Run, progress: Progress) -> tuple[SecondLook, str] | None:
    """Copy what is new and make it the current edition; None if a second reading found nothing new.

    Returns
    -------
    pair of SecondLook and str
        What changed meanwhile, and the digest of the tag manifest.
    """
    plan = run.plan
    progress(Step("reading-records", 0, 0, 0, 0, plan.library.name))
    prepare(run)
    to_do = (
        recognise(run, progress) if plan.state == "next" else Recognised(list(plan.files_to_read), [*plan.databases])
    )
    copy(run, to_do, progress)
    dismiss(all_but=1)  # who looks at the library again
    if plan.options.read_all and _nothing(run):
        journal.clear(run.bag)
        return None
    progress(Step("finishing", 0, 0, 0, 0, plan.library.name))
    if plan.previous is not None:
        run.known_as = top_of(BagRecords(run.bag))
    looking = look_again(run)  # while the records are written
    top = finish(run)
    return second_look(run, looking), top


def _note_begun(run: Run) -> None:
    plan = run.plan
    facts = {"place": shown(str(plan.library.path)), "chest": plan.chest.id, "bag": plan.archived_as}
    events.try_append(("begun", facts | {"fingerprint": run.fingerprint}))


def _still_as_planned(run: Run) -> None:
    """Refuse if another process changed the bag since the plan was made."""
    plan, bag = run.plan, run.bag
    if plan.state == "new":
        if (bag / DECLARATION).exists():
            raise RefusedError(
                f"The chest now has a library {shown(plan.archived_as)}. Nothing was changed; run the command again."
            )
        return
    now = BagRecords(bag).library()
    assert plan.previous is not None
    then = plan.previous.record
    if (now.edition, now.archived, now.totals) != (then.edition, then.archived, then.totals):
        raise RefusedError(
            f"{shown(plan.archived_as)} has got another edition meanwhile. Nothing was changed; run the command again."
        )


def _nothing(run: Run) -> bool:
    """Whether a second reading found everything as it was."""
    previous = run.plan.previous
    if previous is None or previous.others or previous.recorded:
        return False
    return not run.left_faults and run.proven.same_as_before


def _note(run: Run, result: ArchiveResult, top: str, progress: Progress) -> None:
    chest = run.plan.chest
    written, before = {result.archived_as: run.proven}, {result.archived_as: run.known_as}
    # The chest itself holds everything; without this only this computer's memory of it is missing.
    events.try_append(
        ("chest", {"id": chest.id, "label": chest.label, "folder": str(chest.folder)}),
        (
            "archive",
            {
                "chest": chest.id,
                "bag": result.archived_as,
                "origin": shown(str(run.plan.library.path)),
                "edition": run.plan.edition,
                "files": len(run.proven),
                "bytes": result.stored_bytes,
                "top": top,
                "where": identity(chest.folder),
            },
        ),
    )
    note_holdings(
        chest,
        [chest.bag(result.archived_as)],
        files=written,
        before=before,
        at=_had_here(run.plan),
        progress=progress,
    )
    keep_in_step(chest)
