"""Carry out a plan to copy a library from chest to chest. It decides nothing: what is not in the plan is not done."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import ExitStack, contextmanager
from typing import Any

from dunechest.chest.bag_records import BagRecords, stamp
from dunechest.chest.chest import Chest
from dunechest.chest.commit import finish_decided
from dunechest.chest.layout import DATA, EARLIER
from dunechest.errors import CutOffError, RefusedError, refuse_blocked
from dunechest.findings import blocking
from dunechest.jobs.copy.doing.become import become
from dunechest.jobs.copy.doing.bring import bring, prepare
from dunechest.jobs.copy.doing.run import Run, cut_off_words
from dunechest.jobs.copy.image import held
from dunechest.jobs.known.chests import facts_of
from dunechest.jobs.known.holdings import note_damage, note_holdings
from dunechest.jobs.known.logs import keep_in_step
from dunechest.jobs.known.this_computer import machine_name
from dunechest.ledger import events
from dunechest.machine.volumes import identity
from dunechest.model.copy import CopyPlan, CopyResult, FromElsewhere
from dunechest.names import from_wire, shown
from dunechest.progress import Progress, Step, silent
from dunechest.values import PathAndWhy


def carry_out(plan: CopyPlan, *, progress: Progress = silent) -> CopyResult:
    """Copy the library of a plan.

    Parameters
    ----------
    plan : CopyPlan
        From `plan_copy`.
    progress : Progress
        Told how far it is.

    Returns
    -------
    CopyResult

    Raises
    ------
    RefusedError
        If a blocking finding remains, or either chest has changed since the plan was made. Nothing was changed.
    CutOffError
        If a drive is full, gone or failing. What was copied is taken up by the next run.
    """
    blocked = {plan.name: blocking(plan.findings)}
    refuse_blocked("Refused: nothing was copied, because {} cannot be copied now.", blocked)
    if plan.state not in ("new", "next") or plan._image is None:
        return result_of_nothing(plan)
    run = Run(plan, plan.target.bag_folder(plan.name))
    with _reading(plan.source), plan.target.changing(machine_name()):
        finish_decided(run.bag)
        _still_as_planned(run)
        try:
            top = _copy(run, progress)
        except CutOffError:
            raise
        except OSError as error:
            raise CutOffError(cut_off_words(run, f"{error.strerror or error}")) from error
    _note(run, top, progress)
    return _result(run)


def _copy(run: Run, progress: Progress) -> str:
    """Bring what is to be brought, and decide the change; return the digest of the tag manifest."""
    plan = run.plan
    assert plan._image is not None
    progress(Step("reading-records", 0, 0, 0, 0, plan.name))
    source = held(BagRecords(plan.source.bag_folder(plan.name)))
    target = held(BagRecords(run.bag)) if plan.state == "next" else None
    prepare(run, plan._image.folders if target is None else set())
    bring(run, progress)
    progress(Step("finishing", 0, 0, 0, 0, plan.name))
    return become(run, source, target)


@contextmanager
def _reading(chest: Chest) -> Iterator[None]:
    """Keep others from changing a chest while it is read; one that cannot be written to changes for nobody."""
    with ExitStack() as held_alone:
        try:
            held_alone.enter_context(chest.changing(machine_name()))
        except CutOffError:
            pass
        yield


def _still_as_planned(run: Run) -> None:
    """Refuse if another process changed one of the bags since the plan was made."""
    plan = run.plan
    source = plan.source.bag_folder(plan.name)
    if (stamp(source), stamp(run.bag)) != plan._stamps:
        raise RefusedError(f"{shown(plan.name)} has changed meanwhile. Nothing was copied; run the command again.")


def result_of_nothing(plan: CopyPlan) -> CopyResult:
    """Return the account of a library that nothing is done with."""
    return CopyResult(plan.name, "blocked" if blocking(plan.findings) else plan.state, findings=plan.findings)


def _result(run: Run) -> CopyResult:
    plan = run.plan
    assert plan._image is not None
    payload = [
        item for item in plan.sync.bring if item.path in run.brought and item.path.startswith((DATA, EARLIER + "/"))
    ]
    return CopyResult(
        name=plan.name,
        state=plan.state,
        editions=plan.editions,
        edition=plan._image.record.edition,
        copied_count=len(payload),
        copied_bytes=sum(item.size for item in payload),
        file_count=plan._image.record.totals.files_stored,
        size_bytes=plan._image.record.totals.bytes_stored,
        resumed_count=run.resumed,
        from_other_chests=tuple(FromElsewhere(*item) for item in run.elsewhere),
        missing_files=tuple(PathAndWhy(*item) for item in sorted(run.missing.items())),
        findings=plan.findings,
    )


def _all_read_back(run: Run) -> dict[str, Any]:
    """Return the facts of a check: of a new bag every byte was written, and read back from the medium."""
    plan = run.plan
    facts = {"chest": plan.target.id, "bag": plan.name, "quick": False, "intact": True, "wrong": 0}
    return facts | {"files": len(run.brought), "where": identity(plan.target.folder)}


def _note(run: Run, top: str, progress: Progress) -> None:
    """Write down what the target holds now; an archive of this computer is its own on every chest."""
    plan = run.plan
    assert plan._image is not None
    record = plan._image.record
    facts = {
        "chest": plan.target.id,
        "bag": plan.name,
        "origin": shown(from_wire(record.origin.path)),
        "edition": record.edition,
        "files": record.totals.files_copied,
        "bytes": record.totals.bytes_stored,
        "top": top,
        "where": identity(plan.target.folder),
    }
    told: list[tuple[str, dict[str, Any]]] = [("chest", {**facts_of(plan.target)})]
    if plan.archived_here and not run.missing:
        told.append(("archive", facts))
    if plan.state == "new" and not (run.missing or run.resumed):
        told.append(("check", _all_read_back(run)))
    events.try_append(*told)
    note_holdings(plan.target, [plan.target.bag(plan.name)], progress=progress)
    keep_in_step(plan.target)
    note_damage(plan.source, plan.name, len(run.missing) + len(run.elsewhere))
