"""Restore libraries from a chest: `plan_restore` decides, `carry_out` does, `restore` is both in one call."""

from __future__ import annotations

from collections.abc import Iterable

from dunechest.chest.chest import Chest
from dunechest.jobs.known.named import get_chest, names_of
from dunechest.jobs.restore.doing.restoring import carry_out_once, refuse_if_stopped
from dunechest.jobs.restore.places_map import forget_place, mapped_places, remember_place
from dunechest.jobs.restore.planning.offers import offers
from dunechest.jobs.restore.planning.plan_restore import plan_restore
from dunechest.jobs.restore.planning.saved_plan import plan_as_saved, saved_plan
from dunechest.jobs.restore.planning.several import left_behind, plan_all, plan_restores, restorable
from dunechest.jobs.restore.repeat import carry_out, new_command
from dunechest.jobs.undo import recover
from dunechest.model.restore import (
    AsArchived,
    ByHand,
    Compared,
    Existing,
    MappedPlace,
    MergeResult,
    NotDone,
    Offer,
    Placement,
    Proof,
    ReferencePlan,
    Repoint,
    RestoreFile,
    RestoreOptions,
    RestoreOutsideFile,
    RestorePlan,
    RestoreResult,
    SavedPlan,
    SettingChange,
    Target,
)
from dunechest.names import AnyPath
from dunechest.progress import Progress, silent
from dunechest.transfer.helpers import standing

__all__ = [
    "AsArchived",
    "ByHand",
    "Compared",
    "Existing",
    "MappedPlace",
    "MergeResult",
    "NotDone",
    "Offer",
    "Placement",
    "Proof",
    "ReferencePlan",
    "Repoint",
    "RestoreFile",
    "RestoreOptions",
    "RestoreOutsideFile",
    "RestorePlan",
    "RestoreResult",
    "SavedPlan",
    "SettingChange",
    "Target",
    "carry_out",
    "carry_out_once",
    "forget_place",
    "left_behind",
    "mapped_places",
    "new_command",
    "offers",
    "plan_as_saved",
    "plan_restore",
    "plan_restores",
    "refuse_if_stopped",
    "remember_place",
    "restorable",
    "restore",
    "restore_several",
    "saved_plan",
]


def restore(
    chest: Chest | AnyPath, library: str, options: RestoreOptions | None = None, *, progress: Progress = silent
) -> RestoreResult:
    """Restore a library from a chest; parameters as for `plan_restore`.

    Returns
    -------
    RestoreResult
        The summary; look at `RestoreResult.ok`.

    Raises
    ------
    RefusedError
        If its place is occupied or not known, or there is too little room. Nothing was changed.
    CutOffError
        If a drive is full, gone or failing; nothing is left half-done.

    Examples
    --------
    >>> import dunechest, pathlib, tempfile
    >>> home, drive = pathlib.Path(tempfile.mkdtemp()), tempfile.mkdtemp()
    >>> _ = (home / "notes.txt").write_text("spring tide at noon")
    >>> chest = dunechest.create_chest(drive, "dune")
    >>> (archived,) = dunechest.archive(home, chest)
    >>> back = dunechest.restore(chest, archived.archived_as, dunechest.RestoreOptions(into=home / "back"))
    >>> back.file_count, back.ok
    (1, True)
    """
    source = get_chest(chest)
    recover()
    with standing():
        plan = plan_restore(source, library, options, progress=progress)
        refuse_if_stopped([plan])
        return carry_out(plan, progress=progress)


def restore_several(
    chest: Chest | AnyPath,
    libraries: str | Iterable[str] = (),
    options: RestoreOptions | None = None,
    *,
    progress: Progress = silent,
) -> tuple[RestoreResult, ...]:
    """Restore several libraries of a chest as one change, so that one undo reverses all of them.

    Parameters
    ----------
    chest : Chest, path or label
        Where they are.
    libraries : str or iterable of str
        Their names; all that can be restored if empty.
    options : RestoreOptions, optional
        For all of them.
    progress : Progress
        Told how far it is.

    Raises
    ------
    RefusedError, CutOffError
        As `restore` does. Nothing is restored if one of those that are named is refused; of all libraries of a chest, those
        that can be restored are.
    """
    source = get_chest(chest)
    recover()
    names = names_of(libraries) or restorable(source)
    with standing():
        if names_of(libraries):
            plans = plan_restores(source, names, options or RestoreOptions(), progress=progress)
        else:
            plans, _ = plan_all(source, names, options or RestoreOptions(), progress=progress)
        refuse_if_stopped(plans)
        command = new_command()
        return tuple(carry_out(plan, command=command, progress=progress) for plan in plans)
