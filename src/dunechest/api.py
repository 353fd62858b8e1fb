"""Plan and carry out in one call, for those who need not look at the plan."""

from __future__ import annotations

import os
from collections.abc import Iterable, Sequence

from dunechest.chest.chest import Chest
from dunechest.jobs import archiving, glance, restore_jobs, restoring, undoing
from dunechest.jobs.account import ArchiveResult
from dunechest.jobs.archive import check_codes, plan_archive
from dunechest.jobs.landing import RestoreChoice
from dunechest.jobs.named import library_at, resolve_chest
from dunechest.jobs.restore import plan_restore
from dunechest.jobs.restoring import RestoreResult
from dunechest.jobs.study.selection import EVERYTHING, Choice
from dunechest.library.library import Library
from dunechest.progress import Progress, silent

AnyPath = str | os.PathLike[str]


def archive(
    libraries: Sequence[Library | AnyPath],
    chest: Chest | AnyPath,
    *,
    name: str | None = None,
    choice: Choice = EVERYTHING,
    reread: bool = False,
    despite: Iterable[str] = (),
    progress: Progress = silent,
) -> tuple[ArchiveResult, ...]:
    """Archive one or several libraries to a chest.

    Parameters
    ----------
    libraries : sequence of Library or path
        What to archive.
    chest : Chest or path
        Where to.
    name : str, optional
        Another name for the bag of a single library.
    choice : Choice
        Which parts and which files: strays, rebuildable and hollow ones.
    reread : bool
        Distrust sizes and times, and read every file.
    despite : iterable of str
        Codes of *stop* findings to overrule.
    progress : Progress
        Told how far it is.

    Returns
    -------
    tuple of ArchiveResult
        The account of each library; look at `ArchiveResult.well`.

    Raises
    ------
    Refused
        If a *stop* finding remains. Nothing was changed.
    CutOff
        If the drive is full, gone or failing. The same call goes on from there.
    """
    codes = tuple(despite)
    check_codes(codes)
    target = chest if isinstance(chest, Chest) else resolve_chest(chest)
    known = [one if isinstance(one, Library) else library_at(one) for one in libraries]
    seen = {} if reread else {one.path: glance.unchanged(one, target, name=name, choice=choice) for one in known}
    rest = [one for one in known if seen.get(one.path) is None]
    plans = plan_archive(rest, target, name=name, choice=choice, reread=reread) if rest else ()
    archiving.refuse_if_stopped(plans, codes)
    done = {plan.library.path: archiving.carry_out(plan, despite=codes, progress=progress) for plan in plans}
    return tuple(seen.get(one.path) or done[one.path] for one in known)


def restore(
    chest: Chest | AnyPath,
    library: str,
    *,
    home: AnyPath | None = None,
    into: AnyPath | None = None,
    edition: int | None = None,
    outward_links: bool | None = None,
    choice: RestoreChoice | None = None,
    progress: Progress = silent,
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
    plan = plan_restore(
        source,
        library,
        home=home,
        into=into,
        edition=edition,
        outward_links=outward_links,
        choice=choice,
        progress=progress,
    )
    restoring.refuse_if_stopped([plan])
    return restore_jobs.carry_out(plan, command=restore_jobs.new_command(), progress=progress)
