"""Copy libraries from chest to chest: `plan_copy` decides, `carry_out` does, `copy_chest` is both in one call."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from dunechest.chest.chest import Chest
from dunechest.errors import refuse_blocked
from dunechest.findings import blocking
from dunechest.jobs.copy.doing.copying import carry_out, result_of_nothing
from dunechest.jobs.copy.planning.plan_copy import plan_copy
from dunechest.jobs.known.holdings import note_refused
from dunechest.jobs.known.named import names_of
from dunechest.model.copy import CopyPlan, CopyResult
from dunechest.names import AnyPath
from dunechest.progress import Progress, silent

__all__ = [
    "CopyPlan",
    "CopyResult",
    "carry_out",
    "carry_out_all",
    "copy_chest",
    "plan_copy",
    "refuse_if_stopped",
    "result_of_nothing",
]

#: What concerns one library only: where all of a chest is copied, the others are copied all the same.
_OF_ONE = frozenset({"damaged-archive", "other-history", "diverged", "name-taken", "file-too-large"})


def copy_chest(
    source: Chest | AnyPath,
    target: Chest | AnyPath,
    libraries: str | Iterable[str] = (),
    *,
    progress: Progress = silent,
) -> tuple[CopyResult, ...]:
    """Copy a chest, or some of its libraries, to another chest: every edition, every file checked while it is read.

    A later call copies only what is new.

    Parameters
    ----------
    source, target : Chest, path or label
        From where, and where to.
    libraries : str or iterable of str
        Names of libraries in the source; by default all of them.
    progress : Progress
        Told how far it is.

    Returns
    -------
    tuple of CopyResult
        One a library; look at `CopyResult.ok`.

    Raises
    ------
    RefusedError
        If a blocking finding remains. Nothing was changed.
    CutOffError
        If a drive is full, gone or failing. The same call continues.

    Examples
    --------
    >>> import dunechest, pathlib, tempfile
    >>> home = pathlib.Path(tempfile.mkdtemp())
    >>> _ = (home / "notes.txt").write_text("spring tide at noon")
    >>> red, white = (dunechest.create_chest(tempfile.mkdtemp(), name) for name in ("shelf", "barn"))
    >>> _ = dunechest.archive(home, red)
    >>> (result,) = dunechest.copy_chest(red, white)
    >>> result.file_count, result.ok
    (1, True)
    """
    names = names_of(libraries)
    plans = plan_copy(source, target, names)
    return carry_out_all(plans, every=not names, progress=progress)


def carry_out_all(plans: Sequence[CopyPlan], *, every: bool, progress: Progress = silent) -> tuple[CopyResult, ...]:
    """Carry out the plans of one run.

    Parameters
    ----------
    plans : sequence of CopyPlan
        From one `plan_copy`.
    every : bool
        Whether all of the chest was asked for: then a library that cannot be copied does not keep the others from it.
    progress : Progress
        Told how far it is.

    Raises
    ------
    RefusedError
        If a blocking finding remains. Nothing was changed.
    """
    refuse_if_stopped(plans, every=every)
    return tuple(
        result_of_nothing(plan) if blocking(plan.findings) else carry_out(plan, progress=progress) for plan in plans
    )


def refuse_if_stopped(plans: Sequence[CopyPlan], *, every: bool) -> None:
    """Raise `RefusedError` for what blocks; of all of a chest, only for what concerns more than one library."""
    blocked = {}
    for plan in plans:
        found = blocking(plan.findings)
        if every and len(plans) > 1:
            found = tuple(finding for finding in found if finding.code not in _OF_ONE)
        blocked[plan.name] = found
        if plan.state == "blocked":
            for chest in (plan.source, plan.target):
                note_refused(chest, plan.name)
    refuse_blocked("Refused: nothing was copied, because {} cannot be copied now.", blocked)
