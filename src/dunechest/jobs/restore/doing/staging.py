"""Put a library together in a folder to work in, every file checked by digest as it is written."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from itertools import chain
from pathlib import Path

import msgspec

from dunechest.errors import CutOffError, RefusedError
from dunechest.jobs.restore.doing.attributes import dress_unreadable, make_link, set_time_and_mode
from dunechest.jobs.restore.doing.one_file import bag_of, copy_task, put_together, why_not
from dunechest.jobs.restore.doing.run import Run
from dunechest.machine.processes import lives
from dunechest.model.restore import RestoreFile, RestorePlan
from dunechest.names import shown
from dunechest.paths import is_link
from dunechest.progress import Tally
from dunechest.transfer import disk, medium, patient, safe
from dunechest.transfer.below import folders_in, make_folders
from dunechest.transfer.tasks import WHOLE, CopyJob, DigestTask
from dunechest.transfer.workers import BATCH_FILES, Workers

_MARK = "restoring.json"


class _Mark(msgspec.Struct, frozen=True):
    """Whose working folder it is: chest, bag, and the process that is or was at it."""

    chest: str
    bag: str
    pid: int = 0


def take_staging(staging: Path, plan: RestorePlan) -> None:
    """Make sure that the folder to work in can be made; what an interrupted restore of the same bag left goes."""
    if not os.path.lexists(staging):
        return
    try:
        mark = msgspec.json.decode(safe.read_bounded(staging / _MARK, 4096), type=_Mark)
    except (OSError, ValueError, msgspec.MsgspecError):
        mark = _Mark("", "")
    if is_link(staging) or (mark.chest, mark.bag) != (plan.chest.id, plan.name):
        raise RefusedError(
            f"{shown(str(staging))} is in the way and was not left by a restore of this library. "
            "Inspect it and move it away."
        )
    if mark.pid != os.getpid() and lives(mark.pid):
        raise RefusedError(
            f"Process {mark.pid} is restoring this library to the same place right now. Nothing was changed; "
            "wait until it is done."
        )
    remove(staging)


def fill_staging(run: Run) -> None:
    """Make the folder to work in, its mark first, and the library's folders in it."""
    plan, staging, tree = run.plan, run.staging, run.tree
    make_folders(staging.parent)
    staging.mkdir(mode=0o700)
    safe.write_file(staging / _MARK, msgspec.json.encode(_Mark(plan.chest.id, plan.name, os.getpid())))
    tree.mkdir()
    for path, _, _ in plan.folders:
        if path:
            make_folders(tree / path)
    # A record that lost its folders still gets them.
    for parent in {file.path.rpartition("/")[0] for file in plan.existing.to_write} - {
        path for path, _, _ in plan.folders
    }:
        if parent:
            make_folders(tree / parent)


def remove(staging: Path) -> None:
    """Remove a folder to work in, and all in it; what cannot be removed stays."""
    if not os.path.lexists(staging) or is_link(staging):
        return
    # A folder that may not be written to cannot be emptied, nor one that may not be read.
    folders_in(staging, before=lambda folder: os.chmod(folder, 0o700))
    for _ in range(2):  # what was refused for a moment only is not to stay on a drive for ever
        try:
            disk.remove_tree(staging)
            return
        except OSError:
            continue


def write(run: Run) -> None:
    """Copy the files and prove them."""
    plan, tree = run.plan, run.tree
    every = plan.existing.to_write
    total = sum(file.size for file in every)
    tally = Tally(run.progress, "restoring", len(every), total, plan.name)
    tally.tell()
    bag = bag_of(plan)
    root = os.fsencode(tree) + b"/"
    with Workers.for_job(len(every), total, (plan.chest.folder, tree), tally) as workers:
        for file in (f for f in every if f.pieces):
            why = put_together(plan, file, tree / file.path, tally)
            if why is None:
                run.restored.append(file)
                tally.files_done = len(run.restored)
            else:
                run.leave(file.path, why, damage=True)
        later = plan.target.whole_sync and hasattr(os, "O_DIRECTORY")
        again: list[RestoreFile] = []
        for fast in (True, False):
            files = [f for f in every if (f.blake3 is not None) is fast and not f.pieces] + again
            job = _job_of(bag, root, not fast, plan.target.whole_sync, later)
            for file, outcome in chain.from_iterable(workers.copy_each(files, lambda file: file.size, job)):
                why = why_not(file, outcome, os.path.join(tree, file.path))
                if why is None:
                    run.restored.append(file)
                    tally.files_done = len(run.restored)
                elif fast and outcome.state == "not-intact" and file.sha512 is not None:
                    # The fast digest may be what is wrong: the second one is asked.
                    again.append(msgspec.structs.replace(file, blake3=None))
                else:
                    closed = outcome.state == "closed"
                    run.leave(file.path, why, damage=not closed, closed=closed)
        if later:
            _prove(run, workers)
    tally.tell()


def _job_of(
    bag: bytes, root: bytes, sha512: bool, whole_sync: bool, later: bool
) -> Callable[[Sequence[RestoreFile]], CopyJob]:
    """Return what makes a job of a batch of files."""

    def job(batch: Sequence[RestoreFile]) -> CopyJob:
        tasks = [copy_task(file, bag, root + os.fsencode(file.path)) for file in batch]
        return CopyJob(tasks, sha512, whole_sync, later)

    return job


def _prove(run: Run, workers: Workers) -> None:
    """Flush all small files at once, and read each back: nothing but the finished library has to survive anything.

    Large ones were flushed and read back stretch by stretch while they were written.
    """
    tree = run.tree
    small = [file for file in run.restored if file.size <= WHOLE and not file.pieces]
    fd = os.open(tree, os.O_RDONLY)
    try:
        flushed = medium.flush_filesystem(fd)
    finally:
        os.close(fd)
    for file in () if flushed else small:
        fd = os.open(tree / file.path, os.O_RDONLY)
        try:
            medium.flush_file(fd)
        finally:
            os.close(fd)
    root = os.fsencode(tree) + b"/"
    tally = Tally(run.progress, "checking", len(small), 0, run.plan.name)
    proofs = workers.digest_each(
        small, lambda file: file.size, lambda f: DigestTask(root + os.fsencode(f.path), f.size, (f.proof[0],))
    )
    for count, (file, outcome) in enumerate(proofs, start=1):
        if outcome.state != "ok" or outcome.digests != (file.proof[1],):
            raise CutOffError(
                f"The drive returns other data than was written to it ({shown(file.path)}"
                f"{': ' + outcome.why if outcome.why else ''}). The restore was undone; use another drive."
            )
        tally.files_done = count
        if count % BATCH_FILES == 0 or count == len(small):
            tally.tell()


def finish(run: Run) -> None:
    """Join hard links, make symbolic links, give folders their times and modes."""
    plan, tree = run.plan, run.tree
    there = {file.path: file for file in run.restored}
    for group in plan.hard_links:
        names = [name for name in group if name in there]
        for name in names[1:]:
            if there[name].blake3 == there[names[0]].blake3 is not None:
                _join(tree / names[0], tree / name, tree.parent / "joining")
    for path, target, mtime_ns in plan.links:
        place = tree / path
        if os.path.lexists(place):
            run.leave(path, "something else has the name of the link")
            continue
        try:
            make_link(place, target, mtime_ns)
        except OSError as error:
            run.leave(path, f"the link to {target} cannot be made here: {error.strerror}")
            continue
        run.links += 1
    _flush(plan, tree)
    dress_unreadable(run.restored, tree.joinpath)
    for path, mtime_ns, mode in reversed(plan.folders):
        if path:
            set_time_and_mode(tree / path, mtime_ns, mode)


def _join(first: Path, other: Path, beside: Path) -> None:
    """Make two names of equal content one file, as they were; two files are as good where that fails.

    `beside` is a short name in the folder to work in: one made from the file's own could be too long.
    """
    try:
        os.link(first, beside)
        patient.replace(beside, other)
    except OSError:
        patient.unlink(beside, missing_ok=True)


def _flush(plan: RestorePlan, tree: Path) -> None:
    if plan.target.whole_sync and hasattr(os, "O_DIRECTORY"):
        fd = os.open(tree, os.O_RDONLY)
        try:
            if medium.flush_filesystem(fd):
                return
        finally:
            os.close(fd)
    for folder in folders_in(tree):
        medium.flush_folder(folder)
