"""Archive libraries to a chest: `plan_archive` decides, `carry_out` does, `archive` is both in one call."""

from __future__ import annotations

from collections.abc import Iterable

from dunechest.chest.chest import Chest
from dunechest.jobs.archive.doing.carry_out import carry_out, refuse_if_stopped
from dunechest.jobs.archive.options import BLOCKING_CODES, USUAL, ArchiveOptions
from dunechest.jobs.archive.plan import ArchivePlan, Difference, PlannedDatabase, PlannedFile
from dunechest.jobs.archive.planning.make import plan_archive
from dunechest.jobs.archive.result import ArchiveResult
from dunechest.jobs.archive.unchanged import unchanged
from dunechest.jobs.named import AnyLibrary, get_chest, get_libraries
from dunechest.names import AnyPath
from dunechest.progress import Progress, silent

__all__ = [
    "BLOCKING_CODES",
    "ArchiveOptions",
    "ArchivePlan",
    "ArchiveResult",
    "Difference",
    "PlannedDatabase",
    "PlannedFile",
    "archive",
    "carry_out",
    "plan_archive",
    "refuse_if_stopped",
    "unchanged",
]


def archive(
    libraries: AnyLibrary | Iterable[AnyLibrary],
    chest: Chest | AnyPath,
    options: ArchiveOptions = USUAL,
    *,
    progress: Progress = silent,
) -> tuple[ArchiveResult, ...]:
    """Archive one or several libraries to a chest.

    Parameters
    ----------
    libraries : Library, path, name, or several of them
        What to archive.
    chest : Chest, path or label
        Where to.
    options : ArchiveOptions
        What was chosen: the bag's name, parts, files outside, what to overrule.
    progress : Progress
        Told how far it is.

    Returns
    -------
    tuple of ArchiveResult
        The summary of each library, in their order; look at `ArchiveResult.well`.

    Raises
    ------
    RefusedError
        If a blocking finding remains. Nothing was changed.
    CutOffError
        If the drive is full, gone or failing. The same call continues.

    Examples
    --------
    >>> import dunechest, pathlib, tempfile
    >>> home, drive = pathlib.Path(tempfile.mkdtemp()), tempfile.mkdtemp()
    >>> _ = (home / "notes.txt").write_text("spring tide at noon")
    >>> (result,) = dunechest.archive(home, dunechest.create_chest(drive, "red"))
    >>> result.files_copied, result.well
    (1, True)
    """
    target = get_chest(chest)
    known = get_libraries(libraries)
    seen = {library.path: unchanged(library, target, options) for library in known}
    rest = [library for library in known if seen[library.path] is None]
    plans = plan_archive(rest, target, options) if rest else ()
    refuse_if_stopped(plans)
    done = {plan.library.path: carry_out(plan, progress=progress) for plan in plans}
    return tuple(seen[library.path] or done[library.path] for library in known)
