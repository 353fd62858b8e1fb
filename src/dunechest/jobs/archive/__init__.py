"""Archive libraries to a chest: `plan_archive` decides, `carry_out` does, `archive` is both in one call."""

from __future__ import annotations

import os
from collections.abc import Iterable, Sequence
from contextlib import nullcontext

from dunechest.chest.chest import Chest
from dunechest.errors import CutOffError
from dunechest.jobs.archive.doing.carry_out import carry_out, refuse_if_stopped
from dunechest.jobs.archive.options import BLOCKING_CODES, USUAL, ArchiveOptions
from dunechest.jobs.archive.plan import ArchivePlan, Difference, PlannedDatabase, PlannedFile
from dunechest.jobs.archive.planning.make import plan_archive
from dunechest.jobs.archive.result import ArchiveResult
from dunechest.jobs.archive.several import Several, archive_several, plan_several, refuse_several
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
    "Several",
    "archive",
    "archive_several",
    "carry_out",
    "plan_archive",
    "plan_several",
    "refuse_several",
    "refuse_if_stopped",
    "unchanged",
]


def archive(
    libraries: AnyLibrary | Iterable[AnyLibrary],
    chest: Chest | AnyPath | Sequence[Chest | AnyPath],
    options: ArchiveOptions = USUAL,
    *,
    progress: Progress = silent,
) -> tuple[ArchiveResult, ...]:
    """Archive one or several libraries to a chest, or to several chests; each library is read once.

    Parameters
    ----------
    libraries : Library, path, name, or several of them
        What to archive.
    chest : Chest, path or label, or several of them
        Where to.
    options : ArchiveOptions
        What was chosen: the bag's name, parts, files outside, what to overrule.
    progress : Progress
        Told how far it is.

    Returns
    -------
    tuple of ArchiveResult
        The summary of each library, in their order, and in that of the chests for each; look at `ArchiveResult.well`.

    Raises
    ------
    RefusedError
        If a blocking finding remains. Nothing was changed.
    CutOffError
        If a drive is full, gone or failing. The same call continues; other chests were served all the same.

    Examples
    --------
    >>> import dunechest, pathlib, tempfile
    >>> home, drive = pathlib.Path(tempfile.mkdtemp()), tempfile.mkdtemp()
    >>> _ = (home / "notes.txt").write_text("spring tide at noon")
    >>> (result,) = dunechest.archive(home, dunechest.create_chest(drive, "red"))
    >>> result.files_copied, result.well
    (1, True)
    """
    places = (chest,) if isinstance(chest, Chest | str | os.PathLike) else tuple(chest)
    targets = [get_chest(place) for place in places]
    several = plan_several(get_libraries(libraries), targets, options)
    refuse_several(several)
    cut_off: list[CutOffError] = []
    results = [result for _, result in archive_several(several, lambda: nullcontext(progress), cut_off)]
    if cut_off:
        raise cut_off[0]
    return tuple(results)
