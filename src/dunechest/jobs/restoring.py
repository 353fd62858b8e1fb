"""Carry out a restore plan: every file checked by digest as it is written, nothing existing touched.

The library is put together in a folder of its own beside its place and renamed there
when it is whole, so that an application never meets half of it.
"""

from __future__ import annotations

import os
import shutil
import stat
import time
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from dunechest.errors import CutOff, DuneChestError, Refused
from dunechest.findings import Finding, stops
from dunechest.jobs import strays_restoring
from dunechest.jobs.restore import RestorePlan
from dunechest.jobs.restore_contents import NotDone, RestoreFile
from dunechest.jobs.restore_copy import bag_of, copy_task, put_together, why_not, without_overwriting
from dunechest.ledger import notes
from dunechest.machine.processes import lives
from dunechest.names import shown
from dunechest.progress import Progress, Step, silent
from dunechest.transfer import medium, safe
from dunechest.transfer.crew import Crew, batches
from dunechest.transfer.tasks import CopyJob

if TYPE_CHECKING:
    import pandas as pd

_MARK = "restoring.json"


@dataclass(frozen=True, slots=True)
class RestoreResult:
    """The account of a restore.

    `files` and `bytes` were brought back and proven; `not_done` lists everything
    of the archive that was not, with the reason; `renamed` what has another name here;
    `application` what keeps such a library, if that is known; `strays` says of each file from
    outside the library where it was and where it is now.
    """

    bag: str
    place: Path
    files_listed: int
    files: int
    bytes: int
    folders: int
    links: int
    not_done: tuple[NotDone, ...]
    renamed: tuple[tuple[str, str], ...]
    application: str
    seconds: float
    findings: tuple[Finding, ...]
    strays: tuple[tuple[str, Path], ...] = ()

    @property
    def well(self) -> bool:
        """Whether everything that could be brought back was, and no damage was met."""
        return not any(one.fault for one in self.not_done)

    def to_frame(self) -> pd.DataFrame:
        """Return one row for each thing not brought back: path, why, fault."""
        import pandas as pd

        return pd.DataFrame(
            [{"path": shown(n.path), "why": n.why, "fault": n.fault} for n in self.not_done],
            columns=["path", "why", "fault"],
        )


class _Mark(msgspec.Struct, frozen=True):
    """Whose working folder it is: chest, bag, and the process that is or was at it."""

    chest: str
    bag: str
    pid: int = 0


def refuse_if_stopped(plans: Iterable[RestorePlan]) -> None:
    """Raise `Refused` if any plan has a *stop* finding; none of a restore yields."""
    remaining = [finding for plan in plans for finding in stops(plan.findings)]
    if remaining:
        raise Refused("Nothing was restored.", remaining)


def carry_out(plan: RestorePlan, *, progress: Progress = silent) -> RestoreResult:
    """Restore the library of a plan.

    Parameters
    ----------
    plan : RestorePlan
        From `plan_restore`.
    progress : Progress
        Told how far it is.

    Returns
    -------
    RestoreResult

    Raises
    ------
    Refused
        If a *stop* finding remains, or the place is occupied by now.
    CutOff
        If the target or the chest's drive is full, gone or failing; what was written
        is removed again.
    """
    refuse_if_stopped([plan])
    assert plan.place is not None
    begun = time.monotonic()
    staging = plan.place.parent / f".dune-restore-{plan.chest.id[:8]}-{plan.bag}"
    # Only what this run has made, or taken over by its mark, is ever removed again.
    _take_staging(staging, plan)
    try:
        _fill_staging(staging, plan)
        tree = staging / "tree"
        not_done = list(plan.not_done)
        restored = _write(plan, tree, not_done, progress)
        links = _finish(plan, tree, restored, not_done)
        _into_place(plan, tree)
    except OSError as error:
        _remove(staging)
        raise CutOff(
            f"The restore of {shown(plan.bag)} was cut off: {error.strerror or error}. Nothing was changed in "
            f"{shown(str(plan.place))}; the same command begins again."
        ) from error
    except BaseException:
        _remove(staging)
        raise
    _remove(staging)
    strays = strays_restoring.restore_strays(plan, not_done)
    result = RestoreResult(
        bag=plan.bag,
        place=plan.place,
        files_listed=plan.listed,
        files=len(restored) + len(strays),
        bytes=sum(file.size for file in restored) + sum(stray.file.size for stray, _ in strays),
        folders=len(plan.folders),
        links=links,
        not_done=tuple(not_done),
        renamed=plan.renamed,
        application=plan.record.application,
        seconds=time.monotonic() - begun,
        # What was to be done before is no news afterwards.
        findings=tuple(f for f in plan.findings if f.code != "first"),
        strays=tuple((stray.origin, place) for stray, place in strays),
    )
    try:
        notes.append("restore", chest=plan.chest.id, bag=plan.bag, place=shown(str(plan.place)), files=result.files)
    except DuneChestError:
        pass  # the files are in place; only this machine's memory of it is missing
    return result


def _take_staging(staging: Path, plan: RestorePlan) -> None:
    """Make sure that the folder to work in can be made; what an interrupted restore of the same bag left goes."""
    if not os.path.lexists(staging):
        return
    try:
        mark = msgspec.json.decode(safe.read_bounded(staging / _MARK, 4096), type=_Mark)
    except (OSError, ValueError, msgspec.MsgspecError):
        mark = _Mark("", "")
    if staging.is_symlink() or (mark.chest, mark.bag) != (plan.chest.id, plan.bag):
        raise Refused(
            f"{shown(str(staging))} is in the way and was not left by a restore of this library. "
            "Look at it and move it away."
        )
    if mark.pid != os.getpid() and lives(mark.pid):
        raise Refused(
            f"Process {mark.pid} is restoring this library to the same place right now. Nothing was changed; "
            "wait until it is done."
        )
    _remove(staging)


def _fill_staging(staging: Path, plan: RestorePlan) -> None:
    """Make the folder to work in, its mark first, and the library's folders in it."""
    staging.mkdir(parents=True)
    safe.write_file(staging / _MARK, msgspec.json.encode(_Mark(plan.chest.id, plan.bag, os.getpid())))
    tree = staging / "tree"
    tree.mkdir()
    for path, _, _ in plan.folders:
        if path:
            (tree / path).mkdir(parents=True, exist_ok=True)
    for file in plan.files:
        # A record that lost its folders still gets them.
        parent = file.path.rpartition("/")[0]
        if parent and not (tree / parent).is_dir():
            (tree / parent).mkdir(parents=True)


def _remove(staging: Path) -> None:
    if not os.path.lexists(staging) or staging.is_symlink():
        return
    for folder, inner, _ in os.walk(staging):  # a folder that may not be written to cannot be emptied
        for name in inner:
            place = os.path.join(folder, name)
            if not os.path.islink(place):
                os.chmod(place, 0o700)
    shutil.rmtree(staging, ignore_errors=True)


def _write(plan: RestorePlan, tree: Path, not_done: list[NotDone], progress: Progress) -> list[RestoreFile]:
    """Copy and prove the files; return those that came through."""
    total = plan.bytes
    restored: list[RestoreFile] = []
    done_bytes = 0

    def tell(count: int) -> None:
        nonlocal done_bytes
        done_bytes += count
        progress(Step("restoring", len(restored), len(plan.files), min(done_bytes, total), total, plan.bag))

    tell(0)
    bag = bag_of(plan)
    root = os.fsencode(tree) + b"/"
    with Crew.for_job(len(plan.files), total, (plan.chest.folder, tree), tell) as crew:
        for file in (f for f in plan.files if f.pieces):
            why = put_together(plan, file, tree / file.path, tell)
            if why is None:
                restored.append(file)
            else:
                not_done.append(NotDone(file.path, why, True))
        for fast in (True, False):
            files = [f for f in plan.files if (f.blake3 is not None) is fast and not f.pieces]
            sent: dict[int, list[RestoreFile]] = {}
            for done in crew.run(_jobs(files, sent, bag, root, fast, plan.whole_sync)):
                for file, outcome in zip(sent.pop(done.number), done.copies or (), strict=True):
                    why = why_not(file, outcome, tree / file.path)
                    if why is None:
                        restored.append(file)
                    else:
                        not_done.append(NotDone(file.path, why, True))
    tell(0)
    return restored


def _jobs(
    files: list[RestoreFile],
    sent: dict[int, list[RestoreFile]],
    bag: bytes,
    root: bytes,
    fast: bool,
    whole_sync: bool,
) -> Iterator[CopyJob]:
    for number, batch in enumerate(batches(files, lambda file: file.size)):
        sent[number] = batch
        tasks = [copy_task(f, bag, root + os.fsencode(f.path)) for f in batch]
        yield CopyJob(tasks, not fast, whole_sync)


def _finish(plan: RestorePlan, tree: Path, restored: list[RestoreFile], not_done: list[NotDone]) -> int:
    """Join hard links, make symbolic links, give folders their times and modes; return the number of links."""
    there = {file.path: file for file in restored}
    for group in plan.hard_links:
        names = [name for name in group if name in there]
        for name in names[1:]:
            if there[name].blake3 == there[names[0]].blake3 is not None:
                _join(tree / names[0], tree / name)
    made = 0
    for path, target, mtime_ns in plan.links:
        place = tree / path
        if os.path.lexists(place):
            not_done.append(NotDone(path, "something else has the name of the link", True))
            continue
        try:
            place.parent.mkdir(parents=True, exist_ok=True)
            os.symlink(target, place)
            if os.utime in os.supports_follow_symlinks:
                os.utime(place, ns=(mtime_ns, mtime_ns), follow_symlinks=False)
        except OSError as error:
            why = f"the link to {target} cannot be made here: {error.strerror}"
            not_done.append(NotDone(path, why, True))
            continue
        made += 1
    _flush(plan, tree)
    for path, mtime_ns, mode in reversed(plan.folders):
        if path:
            _dress(tree / path, mtime_ns, mode)
    return made


def _dress(folder: Path, mtime_ns: int, mode: int) -> None:
    """Give a folder its mode and time, deepest first, since filling a folder changes its time."""
    try:
        folder.chmod(mode & 0o1777)
        os.utime(folder, ns=(mtime_ns, mtime_ns))
    except OSError:
        pass  # a filesystem without modes or with coarser times


def _join(first: Path, other: Path) -> None:
    """Make two names of equal content one file, as they were; two files are as good where that fails."""
    beside = other.with_name(other.name[:200] + ".joining")
    try:
        os.link(first, beside)
        os.replace(beside, other)
    except OSError:
        beside.unlink(missing_ok=True)


def _flush(plan: RestorePlan, tree: Path) -> None:
    if plan.whole_sync and hasattr(os, "O_DIRECTORY"):
        fd = os.open(tree, os.O_RDONLY)
        try:
            if medium.flush_filesystem(fd):
                return
        finally:
            os.close(fd)
    for folder, _, _ in os.walk(tree):
        medium.flush_folder(folder)


def _into_place(plan: RestorePlan, tree: Path) -> None:
    """Rename the finished library to its place, if that is still free."""
    place = plan.place
    assert place is not None
    source = tree
    if plan.record.shape == "file":
        if not plan.files:
            return
        source = tree / plan.files[0].path
        if not source.exists():  # it was not sound, and is in the account
            return
    if os.path.lexists(place):
        info = place.lstat()
        if not stat.S_ISDIR(info.st_mode) or os.listdir(place):
            raise Refused(f"Something came to be in {shown(str(place))} meanwhile. Nothing was changed there.")
        place.rmdir()
    if plan.record.shape == "file":
        without_overwriting(source, place)
    else:
        source.rename(place)  # a folder never takes the place of anything but an empty one
    # The top folder last: one that may not be written to could not be moved.
    for path, mtime_ns, mode in plan.folders:
        if not path and plan.record.shape == "folder":
            _dress(place, mtime_ns, mode)
    medium.flush_folder(place.parent)
