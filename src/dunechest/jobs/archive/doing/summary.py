"""Draw up the summary of a run, and hold what was found against what is accounted for."""

from __future__ import annotations

from dunechest.chest.layout import OUTSIDE_FILES
from dunechest.errors import DuneChestError
from dunechest.jobs.archive.doing.run import Run
from dunechest.jobs.archive.doing.second_look import SecondLook
from dunechest.jobs.archive.plan import ArchivePlan
from dunechest.jobs.archive.result import NOT_SEEN_NOW, ArchiveResult
from dunechest.names import shown


def summary_of_nothing(run: Run, seconds: float) -> ArchiveResult:
    """Return the summary of a run in which nothing had changed; what the chest had lost may have been brought back."""
    plan = run.plan
    return ArchiveResult(
        library=plan.library.name,
        bag=plan.bag,
        folder=run.bag,
        state="unchanged",
        files_found=plan.files_found,
        bytes_found=plan.bytes_found,
        left_out=plan.left_out,
        folders=len(plan.listing.folders),
        links=len(plan.listing.links),
        databases=len(plan.databases) + len(plan.kept_databases),
        seconds=seconds,
        findings=plan.findings,
        parts=tuple(part.title for part in plan.selection.parts),
        outside_left=len(plan.selection.outside_not_taken),
        edition=plan.previous.record.edition if plan.previous is not None else 1,
        healed=tuple(run.healed),
        lost=(*run.lost, *lost_of_carried(plan)),
        chest=plan.chest.label,
        carried=plan.carried,
    )


def lost_of_carried(plan: ArchivePlan) -> list[tuple[str, str]]:
    """Return what cannot be seen now and is not in the chest any more, with what to say of it."""
    lost = plan.previous.carried_lost if plan.previous is not None else ()
    return [(item.path, NOT_SEEN_NOW) for item in lost]


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
        library=plan.library.name,
        bag=plan.bag,
        folder=run.bag,
        state="archived",
        files_found=plan.files_found,
        bytes_found=plan.bytes_found + run.grown,
        files_copied=len(stored) - len(run.unread),
        bytes_copied=run.bytes_taken,
        bytes_stored=stored.bytes,
        left_out=tuple(sorted(run.left, key=lambda file: file.path)),
        folders=len(plan.listing.folders),
        links=len(plan.listing.links),
        databases=len(run.captured),
        changed_names=tuple(sorted(plan.changed_names.items())),
        again=tuple(run.again),
        broken=tuple(run.broken),
        appeared=second.appeared,
        moved_on=second.moved_on,
        resumed=run.resumed,
        seconds=seconds,
        findings=plan.findings,
        parts=tuple(part.title for part in plan.selection.parts),
        outside_files=len(outside),
        outside_bytes=sum(map(stored.size, outside)),
        outside_left=len(plan.selection.outside_not_taken),
        edition=plan.edition,
        kept=stored.count_there - len(run.unread),
        changes=run.changes,
        silent=tuple(run.silent),
        healed=tuple(run.healed),
        lost=(*run.lost, *lost_of_carried(plan)),
        chest=plan.chest.label,
        carried=tuple(run.carried.values()),
    )
    sums = (result.files_copied + len(result.left_out), result.bytes_copied + result.bytes_left_out)
    if sums != (result.files_found, result.bytes_found):
        raise DuneChestError(
            f"The summary of {shown(plan.bag)} does not add up: {result.files_found} files and "
            f"{result.bytes_found} bytes were found, {sums[0]} and {sums[1]} are accounted for. "
            "Verify the bag before you trust it, and report this as a fault of Dune Chest."
        )
    return result
