"""The orders to copy files out of a chest, and what becomes of their answers."""

from __future__ import annotations

import os
from collections.abc import Callable
from pathlib import Path

from dunechest.chest import editions
from dunechest.chest.bag_records import BagRecords
from dunechest.chest.layout import bag_folder
from dunechest.errors import CutOffError, DuneChestError, RefusedError
from dunechest.model.restore import NO_MODE, RestoreFile, RestorePlan
from dunechest.names import shown
from dunechest.transfer import medium, patient, safe
from dunechest.transfer.digest_files import digest_files
from dunechest.transfer.tasks import CopyOutcome, CopyTask, DigestTask
from dunechest.transfer.whole_files import UMASK


def bag_of(plan: RestorePlan) -> bytes:
    """Return the bag's folder, with a slash at the end."""
    return os.fsencode(bag_folder(plan.chest.folder, plan.name)) + b"/"


def copy_task(file: RestoreFile, bag: bytes, target: bytes) -> CopyTask:
    """Return the order to copy one file to its target."""
    source = bag + os.fsencode(file.source)
    return CopyTask(source, target, file.size, file.mtime_ns, _mode(file), file.blake3, file.data)


def _mode(file: RestoreFile) -> int:
    if file.mode == NO_MODE:
        return 0o666 & ~UMASK
    # Rights to act as another person are never taken from a drive. What even its owner may not read has to be read back
    # first: it gets its mode at the end.
    return (file.mode & 0o777) | (0 if file.mode & 0o400 else 0o600)


def why_not(file: RestoreFile, outcome: CopyOutcome, target: str | Path) -> str | None:
    """Say why a file was not brought back, or None if it was."""
    if outcome.state == "cut-off":
        raise CutOffError(
            f"The restore was interrupted: {outcome.why}. Nothing was changed in the library's place; "
            "the same command starts again."
        )
    if outcome.state == "not-intact":
        return "damaged: its content in the chest is not what was archived"
    if outcome.state == "closed":
        return outcome.why
    if outcome.state != "ok":
        return f"it cannot be read in the chest: {outcome.why}"
    if file.blake3 is not None:
        return None
    algorithm, wanted = file.proof
    found = outcome.sha512
    if algorithm != "sha512":  # a bag of somebody else's, with another manifest
        (again,) = digest_files([DigestTask(os.fsencode(target), file.size, (algorithm,))], lambda count: None)
        found = again.digests[0] if again.state == "ok" else b""
    if found != wanted:
        patient.unlink(target)
        return "damaged: its content in the chest is not what was archived"
    return None


def put_together(plan: RestorePlan, file: RestoreFile, target: Path, tell: Callable[[int], None]) -> str | None:
    """Write an earlier state that is kept in pieces; say why not, or None if it was and is intact."""
    bag = bag_folder(plan.chest.folder, plan.name)
    assert file.blake3 is not None
    try:
        own = BagRecords(bag)
        files = editions.current_files(own).records()
        pieces = editions.places_of_bytes(own, files).assemble(file.blake3.hex())
        fd = os.open(target, os.O_WRONLY | os.O_CREAT | os.O_EXCL | getattr(os, "O_BINARY", 0), 0o600)
        try:
            for piece in pieces:
                safe.write_all(fd, piece)
                tell(len(piece))
            medium.flush_file(fd)
        finally:
            os.close(fd)
        (outcome,) = digest_files([DigestTask(os.fsencode(target), file.size)], lambda count: None)
        if outcome.state != "ok" or outcome.digests != (file.blake3,):
            raise DuneChestError("the reassembled file is not what was archived.")
        target.chmod(_mode(file))
        os.utime(target, ns=(file.mtime_ns, file.mtime_ns))
    except DuneChestError as error:
        patient.unlink(target, missing_ok=True)
        return str(error)
    return None


def without_overwriting(source: Path, place: Path) -> None:
    """Give a file its place, even if another one appeared there in this very moment."""
    try:
        place.hardlink_to(source)
    except FileExistsError as error:
        raise RefusedError(
            f"Something appeared in {shown(str(place))} meanwhile. Nothing was changed there."
        ) from error
    except OSError:  # a filesystem without hard links
        patient.rename(source, place)
