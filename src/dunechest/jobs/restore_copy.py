"""The orders to copy files out of a chest, and what becomes of their answers."""

from __future__ import annotations

import os
from pathlib import Path

from dunechest.errors import CutOff, Refused
from dunechest.jobs.restore import RestoreFile, RestorePlan
from dunechest.names import shown
from dunechest.transfer.tasks import CopyOutcome, CopyTask


def bag_of(plan: RestorePlan) -> bytes:
    """Return the bag's folder, with a slash at the end."""
    return os.fsencode(plan.chest.folder / "bags" / plan.bag) + b"/"


def copy_task(file: RestoreFile, bag: bytes, target: bytes) -> CopyTask:
    """Return the order to copy one file to its target."""
    return CopyTask(bag + os.fsencode(file.source), target, file.size, file.mtime_ns, _mode(file), file.blake3)


def _mode(file: RestoreFile) -> int:
    # Rights to act as another person are never taken from a drive.
    return file.mode & 0o777


def why_not(file: RestoreFile, outcome: CopyOutcome, target: Path) -> str | None:
    """Say why a file was not brought back, or None if it was."""
    if outcome.state == "cut-off":
        raise CutOff(
            f"The restore was cut off: {outcome.why}. Nothing was changed in the library's place; "
            "the same command begins again."
        )
    if outcome.state == "not-sound":
        return "it is not sound: its bytes in the chest are not those that were archived"
    if outcome.state != "ok":
        return f"it cannot be read in the chest: {outcome.why}"
    if file.blake3 is None and outcome.sha512.hex() != file.sha512:
        target.unlink()
        return "it is not sound: its bytes in the chest are not those that were archived"
    return None


def without_overwriting(source: Path, place: Path) -> None:
    """Give a file its place, even if another one came to be there in this very moment."""
    try:
        place.hardlink_to(source)
    except FileExistsError as error:
        raise Refused(f"Something came to be in {shown(str(place))} meanwhile. Nothing was changed there.") from error
    except OSError:  # a filesystem without hard links
        source.rename(place)
