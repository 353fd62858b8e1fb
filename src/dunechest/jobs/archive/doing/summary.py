"""Draw up the summary of a run, and hold what was found against what is accounted for."""

from __future__ import annotations

from dunechest.chest.layout import OUTSIDE_FILES
from dunechest.errors import DuneChestError
from dunechest.jobs.archive.doing.run import Run
from dunechest.jobs.archive.doing.second_look import SecondLook
from dunechest.model.archive import NOT_SEEN_NOW, ArchivePlan, ArchiveResult
from dunechest.names import shown
from dunechest.values import PathAndWhy


def summary_of_nothing(run: Run, seconds: float) -> ArchiveResult:
    """Return the summary of a run in which nothing had changed; what the chest had lost may have been brought back."""
    plan = run.plan
    return ArchiveResult(
        name=plan.library.name,
        archived_as=plan.archived_as,
        folder=run.bag,
        state="unchanged",
        found_count=plan.found_count,
        found_bytes=plan.found_bytes,
        left_out=plan.skipped,
        folder_count=len(plan.listing.folders),
        link_count=len(plan.listing.links),
        database_count=len(plan.databases) + len(plan.kept_databases),
        seconds=seconds,
        findings=plan.findings,
        parts=tuple(part.title for part in plan.selection.parts),
        outside_left_count=len(plan.selection.outside_not_taken),
        edition=plan.previous.record.edition if plan.previous is not None else 1,
        repaired_paths=tuple(run.healed),
        lost_files=(*run.lost, *lost_of_carried(plan)),
        chest_label=plan.chest.label,
        not_seen_files=plan.not_seen_files,
    )


def lost_of_carried(plan: ArchivePlan) -> list[PathAndWhy]:
    """Return what cannot be seen now and is not in the chest any more, with what to say of it."""
    lost = plan.previous.carried_lost if plan.previous is not None else ()
    return [PathAndWhy(item.path, NOT_SEEN_NOW) for item in lost]


def summary_of(run: Run, second: SecondLook, seconds: float) -> ArchiveResult:
    """Draw up the summary of a run that made an edition.

    Raises
    ------
    DuneChestError
        If what was found is not what was copied and left out: a fault of this program.
    """
    plan, stored = run.plan, run.proven
    outside = [path for path in stored if path.startswith(OUTSIDE_FILES)]
    result = ArchiveResult(
        name=plan.library.name,
        archived_as=plan.archived_as,
        folder=run.bag,
        state="archived",
        found_count=plan.found_count,
        found_bytes=plan.found_bytes + run.grown,
        archived_count=len(stored) - len(run.unread),
        archived_bytes=run.bytes_taken,
        stored_bytes=stored.bytes,
        left_out=tuple(sorted(run.left, key=lambda file: file.path)),
        folder_count=len(plan.listing.folders),
        link_count=len(plan.listing.links),
        database_count=len(run.captured),
        changed_names=plan.changed_names,
        reread_paths=tuple(run.again),
        damaged_databases=tuple(run.broken),
        appeared_paths=second.appeared,
        changed_paths=second.moved_on,
        resumed_count=run.resumed,
        seconds=seconds,
        findings=plan.findings,
        parts=tuple(part.title for part in plan.selection.parts),
        outside_count=len(outside),
        outside_bytes=sum(map(stored.size, outside)),
        outside_left_count=len(plan.selection.outside_not_taken),
        edition=plan.edition,
        unchanged_count=stored.count_there - len(run.unread),
        changes=run.changes,
        silently_changed_paths=tuple(run.silent),
        repaired_paths=tuple(run.healed),
        lost_files=(*run.lost, *lost_of_carried(plan)),
        chest_label=plan.chest.label,
        not_seen_files=tuple(run.carried.values()),
    )
    sums = (result.archived_count + len(result.left_out), result.archived_bytes + result.bytes_left_out)
    if sums != (result.found_count, result.found_bytes):
        raise DuneChestError(
            f"The summary of {shown(plan.archived_as)} does not add up: {result.found_count} files and "
            f"{result.found_bytes} bytes were found, {sums[0]} and {sums[1]} are accounted for. "
            "Verify the bag before you trust it, and report this as a fault of Dune Chest."
        )
    return result
