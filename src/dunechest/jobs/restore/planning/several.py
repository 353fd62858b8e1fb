"""Plan the restore of several libraries, or all of a chest."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from msgspec.structs import replace

from dunechest.chest.chest import Chest
from dunechest.errors import DuneChestError, UsageError
from dunechest.findings import Finding, blocking, most_serious_first
from dunechest.jobs.known.named import get_chest, names_of
from dunechest.jobs.restore.planning.plan_restore import plan_restore
from dunechest.ledger import memory
from dunechest.machine.volumes import identity
from dunechest.model.findings import finding_of
from dunechest.model.restore import LeftBehind, RestoreOptions, RestorePlan
from dunechest.names import AnyPath, from_wire, shown
from dunechest.progress import Progress, silent


def plan_restores(
    chest: Chest | AnyPath,
    libraries: str | Iterable[str],
    options: RestoreOptions | None = None,
    *,
    progress: Progress = silent,
) -> tuple[RestorePlan, ...]:
    """Plan to restore several libraries, with enough space for all of them.

    Raises
    ------
    UsageError
        If a choice can only be made for one library, or means nothing.
    RefusedError
        If one of them cannot be restored at all.
    """
    chest, options = get_chest(chest), options or RestoreOptions()
    names = list(dict.fromkeys(names_of(libraries)))
    if len(names) > 1:
        for word, given in (("--into", options.into), ("--edition", options.edition), ("--part", options.parts)):
            if given:
                raise UsageError(f"{word} is for one library; restore the others separately.")
    plans: list[RestorePlan] = []
    taken: dict[Path, str] = {}
    promised: dict[int, int] = {}
    settings: dict[tuple[Path, str], str] = {}
    for name in names:
        plan = plan_restore(chest, name, options, progress=progress)
        extra = _beside(plan, taken, promised)
        # One that cannot be restored anyway takes neither room nor place from another.
        if plan.path is not None and not blocking((*plan.findings, *extra)):
            taken[plan.path] = plan.name
            promised[plan.target.device] = promised.get(plan.target.device, 0) + plan.room.need
        # Of two libraries of one kind only one can be what the application's setting names.
        kept = [s for s in plan.settings if settings.setdefault((s.file, s.key), plan.name) == plan.name]
        plans.append(replace(plan, settings=tuple(kept), findings=most_serious_first((*plan.findings, *extra))))
    return tuple(plans)


def _beside(plan: RestorePlan, taken: dict[Path, str], promised: dict[int, int]) -> list[Finding]:
    """Say where the libraries before one are in its way: by their places, and by the bytes that they need on a drive."""
    found: list[Finding] = []
    if plan.path is None:
        return found
    if plan.path in taken:
        found.append(finding_of("same-place", one=plan.name, other=taken[plan.path], path=str(plan.path)))
    before = promised.get(plan.target.device, 0)
    if before and plan.room.need <= plan.room.free < before + plan.room.need:
        found.append(
            finding_of(
                "no-room/after-others",
                need=before + plan.room.need,
                free=plan.room.free,
                missing=before + plan.room.need - plan.room.free,
            )
        )
    return found


def plan_all(
    chest: Chest | AnyPath,
    libraries: Iterable[str],
    options: RestoreOptions | None = None,
    *,
    progress: Progress = silent,
) -> tuple[tuple[RestorePlan, ...], tuple[RestorePlan, ...]]:
    """Plan the restore of all libraries of a chest; what is wrong with one of them holds up no other.

    Returns
    -------
    tuple
        The plans of those that can be restored, and of the others. Where none can be, all are among the first, with what
        blocks them.
    """
    names = tuple(libraries)
    plans = plan_restores(chest, names, options, progress=progress)
    left: dict[str, RestorePlan] = {}
    while bad := [
        plan for plan in plans if any(finding.code not in _TOGETHER for finding in blocking(plan.findings))
    ]:
        left |= {plan.name: plan for plan in bad}
        rest = [name for name in names if name not in left]
        if not rest:
            return plan_restores(chest, names, options, progress=progress), ()
        plans = plan_restores(chest, rest, options, progress=progress)
    # What has no room, or only the others are in the way of: those before it are restored.
    left |= {plan.name: plan for plan in plans if blocking(plan.findings)}
    good = tuple(plan for plan in plans if plan.name not in left)
    return (good, tuple(left.values())) if good else (plans, ())


#: What blocks a library only because of others that are restored with it.
_TOGETHER = frozenset({"same-place", "no-room"})


def why_left(plan: RestorePlan) -> str:
    """Say why a library cannot be restored like this, and what to do."""
    first = blocking(plan.findings)[0]
    return f"{first.message} {first.action}"


def check_names(chest: Chest, names: Iterable[str]) -> None:
    """Refuse names that a chest has not, before anything is planned."""
    for name in names:
        chest.bag(name)


def restorable(chest: Chest | AnyPath) -> tuple[str, ...]:
    """Return the names of the libraries of a chest that can be restored by name.

    Raises
    ------
    DuneChestError
        If there is none.
    """
    chest = get_chest(chest)
    found = tuple(entry.name for entry in chest.bags() if entry.library is not None)
    if not found:
        raise DuneChestError(f"The chest {shown(chest.label)} holds no library that can be restored.")
    return found


def left_behind(chest: Chest | AnyPath) -> tuple[LeftBehind, ...]:
    """Return the libraries of a chest that `restorable` leaves out, and why."""
    chest = get_chest(chest)
    found = []
    there = set()
    for entry in chest.bags():
        there.add(entry.name)
        if entry.library is None and entry.state != "foreign":
            why = (entry.why or entry.state).rstrip(".")
            intact = "Its intact files can be restored with --into FOLDER; dunechest verify lists the others."
            found.append(LeftBehind(entry.name, f"{why}. {intact}"))
    gone = memory.libraries_of(chest.id, identity(chest.folder)).keys() - there
    found += [LeftBehind(name, "it was archived in this chest, and its folder is gone") for name in sorted(gone)]
    return tuple(found)


def origin_folder(plan: RestorePlan) -> str:
    """Return the folder that the library was in on its machine."""
    return from_wire(plan.record.origin.path).replace("\\", "/").rstrip("/").rpartition("/")[0]
