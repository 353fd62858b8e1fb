"""Plans that are saved, and carried out exactly or not at all."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import msgspec

from dunechest.chest.chest import Chest
from dunechest.errors import RefusedError, UsageError
from dunechest.jobs.known.named import get_chest
from dunechest.jobs.restore.planning.several import plan_restores
from dunechest.ledger.folder import state_folder
from dunechest.machine.identity import this_machine
from dunechest.model.restore import RestoreOptions, RestorePlan, SavedPlan
from dunechest.names import AnyPath, shown
from dunechest.progress import Progress, silent
from dunechest.transfer import safe

FORMAT = 1
_MOST = 1 << 28


def saved_plan(chest: Chest, plans: Sequence[RestorePlan]) -> SavedPlan:
    """Return plans in the form in which they are saved and applied later."""
    machine = this_machine(state_folder())
    return SavedPlan(FORMAT, chest.id, machine.id, plans[0].options.to_dict(), [plan.decisions() for plan in plans])


def plan_as_saved(chest: Chest | AnyPath, path: AnyPath, *, progress: Progress = silent) -> tuple[RestorePlan, ...]:
    """Plan exactly what a saved plan says, or refuse because things have changed.

    Parameters
    ----------
    chest : Chest
        The chest it was made for.
    path : Path
        The saved plan: what ``restore --plan --json`` printed.
    progress : Progress
        Told how far the comparing is.

    Raises
    ------
    UsageError
        If the file is not a saved plan.
    RefusedError
        If the chest, this computer, or anything the plan decided about is not as it was.
    """
    chest, path = get_chest(chest), Path(path)
    try:
        document = msgspec.json.decode(safe.read_bounded(path, _MOST))
        kept = msgspec.convert(document["saved_plan"], SavedPlan)
        names = [str(decided["library"]) for decided in kept.decisions]
        options = RestoreOptions(**kept.options)
    except (OSError, ValueError, KeyError, TypeError, RecursionError, msgspec.MsgspecError) as error:
        raise UsageError(
            f"{shown(str(path))} is not a saved plan ({shown(str(error))}). One is made with: dunechest restore ... --plan --json"
        ) from error
    if kept.format > FORMAT:
        raise UsageError(f"{shown(str(path))} is of a newer version of Dune Chest. Nothing was changed.")
    if kept.chest != chest.id:
        raise RefusedError("The plan was made for another chest. Nothing was changed.")
    if kept.machine != this_machine(state_folder()).id:
        raise RefusedError("The plan was made on another computer. Nothing was changed; make one here.")
    plans = plan_restores(chest, names, options, progress=progress)
    for plan, then in zip(plans, kept.decisions, strict=True):
        now = plan.decisions()
        other = [key for key in now if now[key] != then.get(key)]
        if other:
            raise RefusedError(
                f"Things have changed since the plan was made, so nothing was done. In {shown(plan.name)} these differ now: "
                f"{', '.join(other)}. Make a new plan."
            )
    return plans
