"""Free the space of an original whose copies are proven.

`plan_reclaim` decides, `prove` checks what has to be checked first, `carry_out` deletes, and `reclaim` is all of it in one
call.
"""

from __future__ import annotations

import os

from dunechest.errors import RefusedError, UsageError, refuse_blocked
from dunechest.jobs.known.homes import homes_named
from dunechest.jobs.known.named import AnyLibrary, get_library
from dunechest.jobs.move.reclaim.doing.deleting import carry_out
from dunechest.jobs.move.reclaim.doing.last_look import chests_held
from dunechest.jobs.move.reclaim.first_checks import prove
from dunechest.jobs.move.reclaim.planning.aside import asides_of, plan_aside
from dunechest.jobs.move.reclaim.planning.plan_reclaim import plan_original
from dunechest.jobs.restore import new_command
from dunechest.jobs.undo import recover
from dunechest.library.library import Library
from dunechest.model.reclaim import USUAL, YIELDING_CODES, Evidence, ReclaimOptions, ReclaimPlan, ReclaimResult
from dunechest.names import shown
from dunechest.progress import Progress, silent

__all__ = [
    "YIELDING_CODES",
    "Evidence",
    "ReclaimOptions",
    "ReclaimPlan",
    "ReclaimResult",
    "carry_out",
    "plan_reclaim",
    "prove",
    "prove_and_carry_out",
    "reclaim",
]


def plan_reclaim(library: AnyLibrary, options: ReclaimOptions = USUAL) -> tuple[ReclaimPlan, ...]:
    """Plan to free the space of a library's original. Changes nothing.

    Parameters
    ----------
    library : Library, path or name
        A library that is archived in chests; or one that was moved to a drive, whose original was set aside: then that
        original is what goes, never the library itself.
    options : ReclaimOptions
        What was chosen.

    Returns
    -------
    tuple of ReclaimPlan
        One; several if several originals of one library were set aside.

    Raises
    ------
    UsageError
        If there is no such library or part, or its original is deleted already.
    NotConnectedError
        If the library was moved to a drive that is not connected.
    """
    text = str(library.path) if isinstance(library, Library) else os.fspath(library)
    asides = () if options.parts else asides_of(text)
    if asides:
        return tuple(plan_aside(aside, options) for aside in asides)
    moved = [home for home in homes_named(text) if os.path.abspath(os.path.expanduser(text)) != str(home.path)]
    if moved and moved[0].second is None and not options.parts:
        raise UsageError(
            f"{shown(moved[0].name)} was moved to {shown(str(moved[0].path))}, and its original is deleted already. To delete "
            "the library itself from there, name that folder."
        )
    return (plan_original(get_library(library), options),)


def prove_and_carry_out(plan: ReclaimPlan, *, progress: Progress = silent, command: str = "") -> ReclaimResult:
    """Check what a plan says has to be checked first, make the plan again, and delete.

    Parameters
    ----------
    plan : ReclaimPlan
        From `plan_reclaim`.
    progress : Progress
        Told how far it is.
    command : str
        Something that all changes of one command have in common.

    Raises
    ------
    RefusedError
        If a blocking finding remains, a copy is not intact, or something changed meanwhile. Nothing was deleted.
    CutOffError
        If a drive is gone, or the system refuses in the middle; the same command finishes it.
    """
    refuse_blocked("Refused: nothing was deleted, because {} cannot be deleted now.", {plan.name: plan.blocked})
    if plan.proven:
        return carry_out(plan, progress=progress, command=command)
    # What was just read while its chest was held is not read once more; all else is looked at again.
    with chests_held(plan):
        prove(plan, progress=progress)
        checked = plan.first_checked_labels
        again = plan_original(plan.library, plan.options)
        if {copy.chest_id for copy in again.copies if copy.counts} - {
            copy.chest_id for copy in plan.copies if copy.counts
        }:
            raise RefusedError("A chest was connected meanwhile. Nothing was deleted; run the command again.")
        return carry_out(again, progress=progress, command=command, checked=checked)


def reclaim(
    library: AnyLibrary, options: ReclaimOptions = USUAL, *, progress: Progress = silent
) -> tuple[ReclaimResult, ...]:
    """Free the space of a library's original: its copies are checked and drilled first, where that was not done.

    Parameters
    ----------
    library, options
        As for `plan_reclaim`.
    progress : Progress
        Told how far it is.

    Returns
    -------
    tuple of ReclaimResult
        One for each original.

    Raises
    ------
    RefusedError
        If it is not proven to be safe elsewhere. Nothing was deleted.
    CutOffError
        If a drive is gone, or the system refuses in the middle; the same command finishes it.

    Examples
    --------
    >>> import dunechest, pathlib, tempfile
    >>> home, drive = pathlib.Path(tempfile.mkdtemp()), pathlib.Path(tempfile.mkdtemp())
    >>> (home / "logs").mkdir()
    >>> _ = (home / "logs" / "tide.txt").write_text("spring tide at noon")
    >>> moved = dunechest.rehome(home / "logs", drive)
    >>> (gone,) = dunechest.reclaim(home / "logs")
    >>> gone.deleted_count, moved.set_aside_path.exists(), (home / "logs" / "tide.txt").read_text()
    (1, False, 'spring tide at noon')
    """
    recover()
    plans = plan_reclaim(library, options)
    refuse_blocked(
        "Refused: nothing was deleted, because {} cannot be deleted now.", {plan.name: plan.blocked for plan in plans}
    )
    command = new_command()
    return tuple(prove_and_carry_out(plan, progress=progress, command=command) for plan in plans)
