"""Copy a library to a folder to work in on its new drive, every file read back and compared."""

from __future__ import annotations

import os
import sys
from collections.abc import Sequence
from pathlib import Path

from dunechest.errors import ChangedMeanwhileError, CutOffError, RefusedError
from dunechest.jobs.move.rehome.doing.run import Run
from dunechest.jobs.restore.doing.attributes import make_link, set_time_and_mode
from dunechest.machine.attributes import attributes_of, give_attribute
from dunechest.model.rehome import RehomePlan
from dunechest.names import shown
from dunechest.progress import Tally
from dunechest.transfer import disk, medium, patient
from dunechest.transfer.below import folders_in
from dunechest.transfer.tasks import CopyJob, CopyTask
from dunechest.transfer.walk import FileEntry, entry_of, walk_own
from dunechest.transfer.workers import Workers


def copy(run: Run) -> None:
    """Copy folders, files and links, and prove the files; what is in the library's own place is not touched.

    Raises
    ------
    CutOffError
        If the drive is full, gone or failing, or a file cannot be read.
    ChangedMeanwhileError
        If the library changed while it was copied.
    """
    plan, tree = run.plan, run.tree
    disk.make_folder(tree)
    for folder in sorted(plan.folders, key=lambda folder: folder.path.count("/")):
        if folder.path:
            disk.make_folder(tree / folder.path)
    pairs = [(file, plan.path / file.path, tree / file.path) for file in plan.files]
    for number, item in enumerate(plan.outside):
        disk.make_folder(run.outside)
        pairs.append((item.entry, Path(item.entry.path), run.outside / str(number)))
    _copy_files(run, pairs)
    _refuse_changed(run)
    _join_hard_links(plan, tree)
    for link in plan.links:
        disk.announce("link", tree / link.path, link.target)
        try:
            make_link(tree / link.path, link.target, link.mtime_ns)
        except OSError as error:
            raise CutOffError(
                f"The link {shown(link.path)} cannot be made on that drive: {error.strerror}. Nothing was moved."
            ) from error


def _copy_files(run: Run, pairs: Sequence[tuple[FileEntry, Path, Path]]) -> None:
    plan = run.plan
    total = sum(entry.size for entry, _, _ in pairs)
    tally = Tally(run.progress, "moving", len(pairs), total, plan.name)
    tally.tell()

    def job(batch: Sequence[tuple[FileEntry, Path, Path]]) -> CopyJob:
        tasks = [
            CopyTask(os.fsencode(source), os.fsencode(target), entry.size, entry.mtime_ns, entry.mode & 0o777 | 0o600)
            for entry, source, target in batch
        ]
        return CopyJob(tasks, False, plan.place.whole_sync)

    with Workers.for_job(len(pairs), total, (plan.path, run.staging), tally) as workers:
        for batch in workers.copy_each(pairs, lambda pair: pair[0].size, job):
            for (entry, _, _), outcome in batch:
                if outcome.state == "cut-off":
                    raise CutOffError(
                        f"The move was interrupted: {outcome.why}. The library is where it was; the same command starts again."
                    )
                if outcome.state != "ok":
                    raise CutOffError(
                        f"{shown(entry.path)} could not be copied: {outcome.why}. The library is where it was, unchanged. "
                        "Mend that, and run the same command again."
                    )
                run.proven[entry.path] = (outcome.size, outcome.mtime_ns, outcome.blake3)
                tally.files_done = len(run.proven)
    tally.tell()


def _refuse_changed(run: Run) -> None:
    """See that the library is still just what was copied."""
    plan = run.plan
    now = walk_own(str(plan.path))
    found = {file.path: (file.size, file.mtime_ns) for file in now.files if not _is_mark(plan, file.path)}
    copied = {file.path: run.proven[file.path][:2] for file in plan.files}
    changed = sorted(path for path in found.keys() | copied.keys() if found.get(path) != copied.get(path))
    links = {link.path for link in now.links} ^ {link.path for link in plan.links}
    for item in plan.outside:
        entry = entry_of(item.entry.path)
        if entry is None or (entry.size, entry.mtime_ns) != run.proven[item.entry.path][:2]:
            changed.append(item.entry.path)
    if changed or links:
        first = [*changed, *sorted(links)][0]
        raise ChangedMeanwhileError(
            f"The library changed while it was copied (first {shown(first)}), so it was not moved. Close whatever works with "
            "it, and run the same command again."
        )


def _is_mark(plan: RehomePlan, path: str) -> bool:
    return plan.kind.lock_patterns.match(path) and path not in {file.path for file in plan.files}


def _join_hard_links(plan: RehomePlan, tree: Path) -> None:
    """Make names one file again that were one, where the drive can; two files are as good where it cannot."""
    for first, *others in plan.hard_links:
        for other in others:
            beside = tree.parent / "joining"
            try:
                os.link(tree / first, beside)
                disk.rename(beside, tree / other)
            except OSError:
                patient.unlink(beside, missing_ok=True)


def give_attributes(run: Run) -> None:
    """Give the copies what the originals have beside their bytes: owner, access lists, attributes; count what cannot be."""
    plan = run.plan
    as_administrator = sys.platform != "win32" and os.geteuid() == 0
    paths = [*(file.path for file in plan.files), *(folder.path for folder in plan.folders)]
    for path in paths:
        source, target = os.fsencode(plan.path / path), os.fsencode(run.tree / path)
        try:
            info = os.lstat(source)
            if sys.platform != "win32" and as_administrator:
                os.chown(target, info.st_uid, info.st_gid, follow_symlinks=False)
        except OSError:
            pass  # a drive that knows no owners
        for name, value in attributes_of(source):
            if give_attribute(target, name, value):
                run.missed.add(path)


def dress_folders(run: Run) -> None:
    """Give files that may not be written to their modes, and folders their times and modes, the deepest first."""
    plan, tree = run.plan, run.tree
    for file in plan.files:
        if file.mode & 0o600 != 0o600:
            os.chmod(tree / file.path, file.mode & 0o777)
    for folder in sorted(plan.folders, key=lambda folder: -folder.path.count("/")):
        if folder.path:
            set_time_and_mode(tree / folder.path, folder.mtime_ns, folder.mode)


def flush(folder: Path, *, whole: bool) -> None:
    """See that names and bytes below a folder are on the medium."""
    if whole and hasattr(os, "O_DIRECTORY"):
        fd = os.open(folder, os.O_RDONLY)
        try:
            if disk.flush_filesystem(fd):
                return
        finally:
            os.close(fd)
    for inner in folders_in(folder):
        medium.flush_folder(inner)


def refuse_in_use(run: Run) -> None:
    """See that nobody opened the library meanwhile.

    Raises
    ------
    RefusedError
        If somebody did.
    """
    from dunechest.library.in_use import in_use
    from dunechest.machine.folders import own_home

    plan = run.plan
    uses = in_use(plan.path, plan.kind, [file.path for file in plan.files] + run.marks, own_home())
    if uses:
        raise RefusedError(
            f"{shown(plan.name)} was opened while it was copied, by {shown(uses[0].process)}: {shown(uses[0].how)}. It was not "
            "moved. Close it, and run the same command again."
        )
