"""Carry out plans, and plan again where an archive was changed meanwhile."""

from __future__ import annotations

import time
import uuid

from dunechest.errors import ChangedMeanwhileError
from dunechest.jobs.restore.doing.restoring import carry_out_once, refuse_if_stopped
from dunechest.jobs.restore.planning.plan_restore import plan_restore
from dunechest.model.restore import RestorePlan, RestoreResult
from dunechest.progress import Progress, silent

#: So many times an archive is read again that is changed while it is read.
_TIMES = 5


def new_command() -> str:
    """Return what all restores of one command have in common, so that they are undone together."""
    return uuid.uuid4().hex


def carry_out(
    plan: RestorePlan, *, command: str = "", progress: Progress = silent, again: bool = True
) -> RestoreResult:
    """Carry out a plan, and make it again with the same choice if its archive was changed meanwhile.

    Parameters
    ----------
    plan : RestorePlan
        What to do.
    command : str
        From `new_command`: what all restores of one command have in common; a new one by default.
    progress : Progress
        Told how far it is.
    again : bool
        Whether the plan may be made again. One that a person read must not.

    Raises
    ------
    RefusedError, CutOffError
        As `carry_out_once` does.
    """
    command = command or new_command()
    times = _TIMES if again else 1
    for count in range(times):
        try:
            return carry_out_once(plan, progress=progress, command=command)
        except ChangedMeanwhileError:
            if count + 1 == times:
                raise
            time.sleep(0.2 * (count + 1))
            plan = plan_restore(plan.chest, plan.name, plan.options, progress=progress)
            refuse_if_stopped([plan])
    raise AssertionError("the last round returns or raises")
