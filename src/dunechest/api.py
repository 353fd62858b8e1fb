"""Plan and carry out in one call, for those who need not look at the plan."""

from __future__ import annotations

import os

from dunechest.chest.chest import Chest
from dunechest.jobs import restore_jobs, restoring, undoing
from dunechest.jobs.landing import RestoreChoice
from dunechest.jobs.named import resolve_chest
from dunechest.jobs.restore import plan_restore
from dunechest.jobs.restoring import RestoreResult
from dunechest.progress import Progress, silent

AnyPath = str | os.PathLike[str]


def restore(
    chest: Chest | AnyPath, library: str, choice: RestoreChoice | None = None, *, progress: Progress = silent
) -> RestoreResult:
    """Restore a library from a chest; parameters as for `plan_restore`.

    Returns
    -------
    RestoreResult
        The account; look at `RestoreResult.well`.

    Raises
    ------
    Refused
        If its place is occupied or not known, or there is too little room. Nothing was changed.
    CutOff
        If a drive is full, gone or failing; nothing is left half-done.
    """
    source = chest if isinstance(chest, Chest) else resolve_chest(chest)
    undoing.recover()
    plan = plan_restore(source, library, choice, progress=progress)
    restoring.refuse_if_stopped([plan])
    return restore_jobs.carry_out(plan, command=restore_jobs.new_command(), progress=progress)
