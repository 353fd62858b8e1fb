"""Verify a chest or a bag: every byte against its digest.

`verify` is the door. What a bag should hold stands in `expected`, what is said of each file in `judge`.
"""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from dunechest.bag.bag import is_bag
from dunechest.chest.chest import Chest
from dunechest.errors import UsageError
from dunechest.jobs.check.verify.complete import verify_bag, verify_chest
from dunechest.jobs.known.named import get_chest, names_of
from dunechest.model.verify import BagCheck, FileState, VerifyResult
from dunechest.names import AnyPath
from dunechest.progress import Progress, silent

__all__ = ["BagCheck", "FileState", "VerifyResult", "verify"]


def verify(
    place: Chest | AnyPath,
    libraries: str | Iterable[str] = (),
    *,
    quick: bool = False,
    seconds: float | None = None,
    progress: Progress = silent,
) -> VerifyResult:
    """Check a chest, some of its libraries, or a single bag.

    Parameters
    ----------
    place : Chest, path or label
        A chest; or any folder with ``bagit.txt`` in it, whoever made it.
    libraries : str or iterable of str
        Names of bags in the chest; all of them if empty.
    quick : bool
        Compare names and sizes only, and read no payload.
    seconds : float, optional
        Check for so long, the longest unchecked first; the next such call continues.
    progress : Progress
        Told how far it is.

    Returns
    -------
    VerifyResult
        Damage is a result, not an error.

    Raises
    ------
    UsageError
        If there is neither a chest nor a bag, no library of that name, or `quick` and `seconds` are both given.
    CutOffError
        If the drive went away.
    """
    names = names_of(libraries)
    if seconds is not None and quick:
        raise UsageError("A quick check takes only a moment; a time limit is for the full check.")
    if not isinstance(place, Chest) and is_bag(Path(place)):
        if seconds is not None:
            raise UsageError("A time limit works with a chest, whose checks are remembered; this is a single bag.")
        return verify_bag(Path(place), quick=quick, progress=progress)
    chest = get_chest(place)
    if seconds is not None:
        from dunechest.jobs.check.verify.timed import verify_for

        return verify_for(chest, seconds, names, progress=progress)
    return verify_chest(chest, names, quick=quick, progress=progress)
