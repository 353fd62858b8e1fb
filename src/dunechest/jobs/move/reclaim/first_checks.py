"""Check copies and drill one of them before an original is deleted, where that was not done since it was archived."""

from __future__ import annotations

from dunechest.errors import RefusedError
from dunechest.jobs.check.drill import drill
from dunechest.jobs.check.verify import verify
from dunechest.model.reclaim import ReclaimPlan
from dunechest.names import quoted, shown
from dunechest.progress import Progress, silent


def prove(plan: ReclaimPlan, *, progress: Progress = silent) -> None:
    """Do the checks that a plan says come first.

    Raises
    ------
    RefusedError
        If a copy is not intact, or did not pass its drill. Nothing was deleted.
    CutOffError
        If a drive is gone, or there is no room for the drill.
    """
    for copy in plan.copies:
        if copy.label in plan.first_checked_labels and copy.counts:
            result = verify(copy.folder, copy.archived_as, progress=progress)
            if not result.ok:
                raise RefusedError(
                    f"The copy of {shown(plan.name)} in {shown(copy.label)} is damaged, so nothing was deleted. "
                    f"Run: dunechest verify {quoted(copy.label)} {quoted(copy.archived_as)}"
                )
    for copy in plan.copies:
        if copy.label == plan.first_drilled_label and copy.counts:
            (done,) = drill(copy.folder, copy.archived_as, scratch=plan.options.scratch, progress=progress)
            if not done.passed:
                raise RefusedError(
                    f"The copy of {shown(plan.name)} in {shown(copy.label)} did not pass its drill, so nothing was deleted. "
                    f"Run: dunechest drill {quoted(copy.label)} {quoted(copy.archived_as)}"
                )
