"""Mend a chest from other copies: `plan_mend` finds the damage, `carry_out` replaces it, `mend` is both in one call."""

from __future__ import annotations

from collections.abc import Iterable

from dunechest.chest.chest import Chest
from dunechest.jobs.check.mend.doing.mending import carry_out
from dunechest.jobs.check.mend.planning.plan_mend import plan_mend
from dunechest.jobs.known.named import AnyLibrary, get_chest
from dunechest.model.mend import MendPlan, MendResult
from dunechest.names import AnyPath
from dunechest.progress import Progress, silent

__all__ = ["MendPlan", "MendResult", "carry_out", "mend", "plan_mend"]


def mend(
    chest: Chest | AnyPath,
    libraries: str | Iterable[str] = (),
    *,
    helpers: Iterable[Chest | AnyPath] | None = None,
    library: AnyLibrary | None = None,
    progress: Progress = silent,
) -> tuple[MendResult, ...]:
    """Replace what is damaged in a chest by intact copies from other chests, or from the library itself.

    Every file is read; only what is damaged or missing is written. Damaged records of the chest are made again.

    Parameters
    ----------
    chest, libraries, helpers, library, progress
        As for `plan_mend`.

    Returns
    -------
    tuple of MendResult
        One a library; look at `MendResult.ok`.

    Raises
    ------
    UsageError
        If there is no such library, or a helper is the chest itself.
    CutOffError
        If a drive is full, gone or failing. The same call continues.

    Examples
    --------
    >>> import dunechest, pathlib, tempfile
    >>> home = pathlib.Path(tempfile.mkdtemp())
    >>> _ = (home / "notes.txt").write_text("spring tide at noon")
    >>> red, white = (dunechest.create_chest(tempfile.mkdtemp(), name) for name in ("desk", "loft"))
    >>> _ = dunechest.archive(home, red), dunechest.copy_chest(red, white)
    >>> (copy,) = red.folder.glob("bags/*/data/library/notes.txt")
    >>> _ = copy.write_text("spring tide at moon")
    >>> (result,) = dunechest.mend(red, helpers=[white])
    >>> copy.read_text(), result.ok
    ('spring tide at noon', True)
    """
    chest = get_chest(chest)
    if chest.faults:
        chest = Chest.rebuild(chest.folder)
    plans = plan_mend(chest, libraries, helpers=helpers, library=library, progress=progress)
    return tuple(carry_out(plan, progress=progress) for plan in plans)
