"""Restore by plans: each carried out, and planned again where an archive was changed meanwhile."""

from __future__ import annotations

import time
import uuid
from collections.abc import Iterable, Iterator

from dunechest.errors import Meanwhile
from dunechest.jobs import restoring
from dunechest.jobs.restore import RestorePlan, plan_restore
from dunechest.jobs.restoring import RestoreResult
from dunechest.progress import Progress, silent

#: So many times an archive is read again that is changed while it is read.
_TIMES = 5


def carry_out_each(
    plans: Iterable[RestorePlan], *, progress: Progress = silent, again: bool = True
) -> Iterator[RestoreResult]:
    """Carry out plans one after the other, as one command that is taken back as a whole.

    Parameters
    ----------
    plans : iterable of RestorePlan
        What to do.
    progress : Progress
        Told how far it is.
    again : bool
        Whether a plan may be made again, with the same choice, if its archive was changed meanwhile. A plan that a person
        read must not.

    Raises
    ------
    Refused, CutOff
        As `restoring.carry_out` does; what was restored before stays.
    """
    command = uuid.uuid4().hex
    for plan in plans:
        yield _one(plan, progress, command, _TIMES if again else 1)


def _one(plan: RestorePlan, progress: Progress, command: str, times: int) -> RestoreResult:
    for count in range(times):
        try:
            return restoring.carry_out(plan, progress=progress, command=command)
        except Meanwhile:
            if count + 1 == times:
                raise
            time.sleep(0.2 * (count + 1))
            plan = plan_restore(plan.chest, plan.bag, choice=plan.choice, progress=progress)
            restoring.refuse_if_stopped([plan])
    raise AssertionError("the last round returns or raises")
