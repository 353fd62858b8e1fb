"""Drill: restore into a scratch folder, look at it as an application would, and throw it away.

Only after that a copy counts as proven: its bytes can be read, and they are a library.
"""

from __future__ import annotations

import os
import tempfile
from collections.abc import Iterable
from pathlib import Path

from dunechest.chest.chest import Chest
from dunechest.errors import CutOffError, DuneChestError, RefusedError, UsageError
from dunechest.findings import blocking
from dunechest.jobs.chests.chests import top_of
from dunechest.jobs.known.logs import keep_in_step
from dunechest.jobs.known.named import get_chest, names_of
from dunechest.jobs.restore.doing.restoring import carry_out_once
from dunechest.jobs.restore.doing.staging import remove
from dunechest.jobs.restore.planning.findings import closed_findings
from dunechest.jobs.restore.planning.plan_restore import plan_restore
from dunechest.ledger import events, memory
from dunechest.machine.volumes import identity
from dunechest.model.drill import Drill
from dunechest.model.restore import RestoreOptions, RestorePlan
from dunechest.names import AnyPath, shown
from dunechest.progress import Progress, Step, silent
from dunechest.transfer.helpers import standing

#: What a drill does not ask: nobody starts an application in the scratch folder.
_BESIDE_THE_POINT = ("in-use",)


def drill(
    chest: Chest | AnyPath,
    libraries: str | Iterable[str] = (),
    *,
    scratch: str | os.PathLike[str] | None = None,
    progress: Progress = silent,
) -> tuple[Drill, ...]:
    """Test the restore of libraries, one after the other.

    Parameters
    ----------
    chest : Chest, path or label
        Where they are.
    libraries : str or iterable of str
        Their names; all of the chest if empty.
    scratch : path, optional
        An existing folder on a drive with room for the largest; the cache folder of this person by default.
    progress : Progress
        Told how far it is.

    Returns
    -------
    tuple of Drill
        Nothing of them is left but what the ledger knows.

    Raises
    ------
    UsageError
        If there is no such library or folder.
    RefusedError
        If there is not enough room, or a library cannot be restored.
    """
    chest, libraries = get_chest(chest), names_of(libraries)
    entries = chest.bags()
    # A damaged library is part of all: that it cannot be restored well is what a drill is to show.
    names = list(libraries) or [entry.name for entry in entries if entry.state in ("whole", "damaged", "unusable")]
    gone = (
        [] if libraries else memory.libraries_of(chest.id, identity(chest.folder)).keys() - {e.name for e in entries}
    )
    if not names and not gone:
        raise UsageError(f"The chest {shown(chest.label)} holds no library to test.")
    if scratch is not None and not os.path.isdir(scratch):
        raise UsageError(f"There is no folder {shown(os.fspath(scratch))} for the drill.")
    # One that cannot be tried fails; with several, the others are still drilled.
    with standing():
        done = [_guarded(chest, name, scratch, progress, alone=len(names) == 1 and bool(libraries)) for name in names]
    done += [Drill(name, None, "it was archived in this chest, and its folder is gone") for name in sorted(gone)]
    return tuple(done)


def _guarded(
    chest: Chest, name: str, scratch: str | os.PathLike[str] | None, progress: Progress, *, alone: bool
) -> Drill:
    entry = chest.bag(name)
    if entry.closed:
        return Drill(name, None, f"It could not be tried: {entry.why}.", True)
    try:
        return _one(chest, name, _scratch(scratch), progress)
    except (UsageError, CutOffError):
        raise
    except DuneChestError as error:
        if alone:
            raise
        _note(chest, name, passed=False, files=0, edition=0)
        return Drill(name, None, str(error))


def _scratch(folder: str | os.PathLike[str] | None) -> Path:
    if folder is None:
        import platformdirs

        folder = platformdirs.user_cache_dir("dunechest", appauthor=False)
    try:
        os.makedirs(folder, exist_ok=True)
        return Path(tempfile.mkdtemp(prefix="dunechest-drill-", dir=folder))
    except OSError as error:
        raise CutOffError(f"{shown(os.fspath(folder))} cannot be written to: {error.strerror}.") from error


def _one(chest: Chest, name: str, scratch: Path, progress: Progress) -> Drill:
    try:
        plan = _plan(chest, name, scratch, progress)
        closed = closed_findings(plan)
        if closed:
            return Drill(
                plan.name, None, f"{closed[0].message} A drill needs all of it: run it as administrator.", True
            )
        remaining = [f for f in blocking(plan.findings) if f.code not in _BESIDE_THE_POINT]
        if remaining:
            raise RefusedError(f"{shown(plan.name)} could not be drilled.", remaining)
        result = carry_out_once(plan, progress=progress, drill=True)
        done = Drill(plan.name, result)
        progress(Step("deleting-scratch", 0, 0, 0, 0, plan.name))
    finally:
        remove(scratch)
    _note(chest, done.name, passed=done.passed, files=result.file_count, edition=plan.record.edition)
    return done


def _note(chest: Chest, bag: str, *, passed: bool, files: int, edition: int) -> None:
    # The result is shown; without this only the memory of it is missing.
    events.try_append(
        (
            "drill",
            {
                "chest": chest.id,
                "bag": bag,
                "edition": edition,
                "passed": passed,
                "files": files,
                "top": top_of(chest, bag),
                "where": identity(chest.folder),
            },
        )
    )
    keep_in_step(chest)


def _plan(chest: Chest, name: str, scratch: Path, progress: Progress) -> RestorePlan:
    home = scratch / "home"
    home.mkdir(exist_ok=True)
    plan = plan_restore(chest, name, RestoreOptions(home=str(home), apart=True), progress=progress)
    if plan.path is None or not plan.path.is_relative_to(scratch):
        plan = plan_restore(
            chest, name, RestoreOptions(into=str(scratch / "library"), settings=False, apart=True), progress=progress
        )
    return plan
