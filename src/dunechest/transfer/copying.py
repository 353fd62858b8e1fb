"""Carry out copy and digest jobs in this process.

Small files go many at a time: read, digest, write each; flush them all; drop
what memory holds; read all back. Large ones go through `stream`.
"""

from __future__ import annotations

import errno
import os
import stat
import time
from collections import deque
from collections.abc import Sequence
from typing import NamedTuple

import msgspec

from dunechest.transfer import digests, disk, holes, medium, stream
from dunechest.transfer.closed import why_closed
from dunechest.transfer.digest_files import digest_files
from dunechest.transfer.stream import TargetFailedError
from dunechest.transfer.tasks import AROUND, WHOLE, CopyJob, CopyOutcome, CopyTask, Done, Job, LookJob, SizesJob, Tell
from dunechest.transfer.whole_files import (
    READING,
    UMASK,
    WRITING_NEW,
    close_written,
    discard,
    read_again,
    read_whole,
    system_words,
    write_pieces,
    write_whole,
)

#: Pauses in seconds before a file that changed while it was read is read again; the last one is
#: longer than the coarsest tick below.
PAUSES = (0.05, 0.3, 2.1)
#: So many small files are opened and asked for before the first of them is read.
AHEAD = 32
#: A time stamp this young (ns) may be given again to a later change: clocks of filesystems tick.
TICK_FINE = 20_000_000
TICK_COARSE = 2_000_000_000


def perform(number: int, job: Job, tell: Tell) -> Done:
    """Do one job and return its outcomes."""
    if isinstance(job, CopyJob):
        return Done(number, copies=copy_files(job, tell))
    if isinstance(job, LookJob):
        from dunechest.transfer.totals import total_of_job

        return Done(number, total=total_of_job(job))
    if isinstance(job, SizesJob):
        from dunechest.transfer.totals import sizes_of_job

        return sizes_of_job(number, job)
    return Done(number, digests=digest_files(job.tasks, tell))


class MovedError(Exception):
    """The source changed between the first look and the last."""


class _Source(NamedTuple):
    """A source that is open, what was said of it then, and when (ns)."""

    fd: int
    before: os.stat_result
    opened: int


class _Written(msgspec.Struct):
    """A small file that is written and waits for its proof."""

    fd: int
    place: int
    blake3: bytes
    size: int
    target: bytes
    stamp: int | None


def copy_files(job: CopyJob, tell: Tell) -> list[CopyOutcome]:
    """Copy a batch of files; one outcome a task, in order."""
    outcomes: list[CopyOutcome] = []
    waiting: list[_Written] = []
    ahead: deque[_Source | None] = deque()
    try:
        for place, task in enumerate(job.tasks):
            if not ahead:
                ahead.extend(map(_open_ahead, job.tasks[place : place + AHEAD]))
            outcomes.append(_copy_one(task, place, waiting, job, tell, ahead.popleft()))
            if outcomes[-1].state == "cut-off":
                break
            if job.later and waiting:
                _close(waiting.pop())
        _prove(waiting, outcomes, job)
    finally:
        for written in waiting:
            _close(written)
        for source in ahead:
            if source is not None:
                os.close(source.fd)
    for _ in range(len(outcomes), len(job.tasks)):
        outcomes.append(CopyOutcome("cut-off", why="not begun"))
    return outcomes


def _open_ahead(task: CopyTask) -> _Source | None:
    """Open a small file and have the system start to read it; None if it is large, or is to be asked for once more."""
    if task.size > WHOLE:
        return None
    try:
        source = _open(task)
    except OSError:
        return None
    try:
        if task.size < AROUND:
            medium.expect(source.fd)
    except OSError:
        pass  # then it is read when its turn comes
    return source


def _open(task: CopyTask) -> _Source:
    """Open a source and take note of what it is.

    Raises
    ------
    OSError
        If it cannot be opened, or is no regular file.
    """
    fd = os.open(task.source, READING)
    try:
        opened = time.time_ns()
        before = os.fstat(fd)
        if not stat.S_ISREG(before.st_mode):
            raise OSError(errno.EINVAL, "it is no longer a regular file")
    except BaseException:
        os.close(fd)
        raise
    return _Source(fd, before, opened)


def _close(written: _Written) -> None:
    close_written(written.fd)
    if written.stamp is not None:
        give_time(written.target, written.stamp)


def give_time(path: bytes, stamp: int) -> None:
    """Give a closed file its time, where the system can give none to an open one: closing sets it to now there."""
    try:
        os.utime(path, ns=(stamp, stamp))
    except OSError:
        pass  # recorded beside the file; some filesystems cannot hold it, and what was given up is no longer there


def _copy_one(
    task: CopyTask, place: int, waiting: list[_Written], job: CopyJob, tell: Tell, source: _Source | None
) -> CopyOutcome:
    """Copy a file, again if it changed meanwhile; the first time from a source that is open already, if it is."""
    for again, pause in enumerate((*PAUSES, None)):
        try:
            source, opened = None, source or _open(task)
            outcome = _attempt(task, place, waiting, job, tell if again == 0 else _untold, opened)
        except MovedError:
            if pause is None:
                why = f"it changed each of the {len(PAUSES) + 1} times it was read"
                return CopyOutcome("changing", why=why, again=again)
            time.sleep(pause)
            continue
        except FileNotFoundError:
            return CopyOutcome("vanished", why="it was there at the start and is gone now")
        except TargetFailedError as failure:
            return CopyOutcome("cut-off", why=system_words(failure.__cause__))
        except PermissionError:
            return CopyOutcome("closed", why=why_closed(task.source))
        except OSError as error:
            return CopyOutcome("unreadable", why=system_words(error))
        if again and outcome.state == "ok":
            return msgspec.structs.replace(outcome, again=again)
        return outcome
    raise AssertionError("the last round returns")


def _untold(count: int) -> None:
    """Say nothing: these bytes were counted the first time."""


def _attempt(
    task: CopyTask, place: int, waiting: list[_Written], job: CopyJob, tell: Tell, opened_source: _Source
) -> CopyOutcome:
    source, before, opened = opened_source
    try:
        if before.st_size > WHOLE:
            return _copy_large(task, source, before, job.sha512, tell)
        kept = _data_of(task, source, before)
        data = read_whole(source, before.st_size)
        if task.expect is None:  # otherwise the digest decides
            still(source, before, len(data), opened)
    finally:
        os.close(source)
    tell(len(data))
    fast = digests.once("blake3", data)
    if task.expect is not None and fast != task.expect:
        return CopyOutcome("not-intact", len(data), blake3=fast, why="its bytes differ from the record")
    slow = digests.once("sha512", data) if job.sha512 else b""
    try:
        target = disk.create(task.target, WRITING_NEW, task.mode)
    except OSError as error:
        raise TargetFailedError from error
    try:
        if kept is not None:
            write_pieces(target, memoryview(data), kept)
        else:
            around = len(data) >= AROUND and medium.bypass(target, True)
            write_whole(target, data, around)
        stamp = _dress(target, task, before)
    except OSError as error:
        close_written(target)
        discard(task.target)
        raise TargetFailedError from error
    waiting.append(_Written(target, place, fast, len(data), task.target, stamp))
    mode = stat.S_IMODE(before.st_mode)
    return CopyOutcome("ok", len(data), before.st_mtime_ns, mode, fast, slow, data=kept)


def _data_of(task: CopyTask, source: int, before: os.stat_result) -> holes.Data | None:
    """Return where the data of a source lies, by its drive or as it was recorded; None if it has no holes."""
    found = holes.data_in(source, before.st_size) if holes.is_sparse(before) else None
    return found if found is not None else task.data


def still(fd: int, before: os.stat_result, got: int, opened_ns: int) -> None:
    """Raise `MovedError` unless the open file is what it was, and was read whole.

    An application that saves by renaming takes the name from the file that is being
    read; that changes its number of names, and with it the time of its last change.
    """
    after = os.fstat(fd)
    if (
        got != before.st_size
        or after.st_size != before.st_size
        or after.st_mtime_ns != before.st_mtime_ns
        or after.st_ctime_ns != before.st_ctime_ns
    ):
        raise MovedError
    # A change within one tick of the clock leaves the time stamp as it is, so a stamp
    # from this very moment proves nothing yet.
    youngest = max(before.st_mtime_ns, before.st_ctime_ns)
    tick = TICK_COARSE if before.st_mtime_ns % 1_000_000_000 == 0 == before.st_ctime_ns % 10_000_000 else TICK_FINE
    if abs(opened_ns - youngest) < tick:  # rounding may put it into the near future
        raise MovedError


def _dress(fd: int, task: CopyTask, info: os.stat_result) -> int | None:
    """Give a new file its permission bits and time, as far as the filesystem has such things.

    Returns
    -------
    int or None
        The time that the file is to be given once it is closed, if this system cannot do so before.
    """
    stamp = info.st_mtime_ns if task.expect is None else task.mtime_ns
    try:
        if task.mode & UMASK and hasattr(os, "fchmod"):  # otherwise it was made with that mode
            os.fchmod(fd, task.mode)
        if os.utime not in os.supports_fd:
            return stamp
        os.utime(fd, ns=(stamp, stamp))
    except (PermissionError, NotImplementedError):
        pass  # recorded beside the file; some filesystems cannot hold them
    except OSError as error:
        if error.errno not in (errno.EOPNOTSUPP, errno.EINVAL, errno.ENOSYS, errno.EOVERFLOW):
            raise
    return None


def _copy_large(task: CopyTask, source: int, before: os.stat_result, sha512: bool, tell: Tell) -> CopyOutcome:
    try:
        target = disk.create(task.target, WRITING_NEW, task.mode)
    except OSError as error:
        raise TargetFailedError from error
    kept, stamp = False, None
    try:
        opened = time.time_ns()
        data = _data_of(task, source, before)
        size, read, back, slow = stream.copy(
            source, target, sha512=sha512, tell=tell, most=before.st_size + (64 << 20), data=data
        )
        if task.expect is None:
            still(source, before, size, opened)
        if task.expect is not None and read != task.expect:
            return CopyOutcome("not-intact", size, blake3=read, why="its bytes differ from the record")
        if back != read:
            return CopyOutcome("cut-off", why="what the drive gave back differs from what was written to it")
        try:
            stamp = _dress(target, task, before)
        except OSError as error:
            raise TargetFailedError from error
        kept = True
        mode = stat.S_IMODE(before.st_mode)
        return CopyOutcome("ok", size, before.st_mtime_ns, mode, read, slow, data=data)
    finally:
        close_written(target)
        if not kept:
            discard(task.target)
        elif stamp is not None:
            give_time(task.target, stamp)


def _prove(waiting: Sequence[_Written], outcomes: list[CopyOutcome], job: CopyJob) -> None:
    """Flush the small files of a batch, then compare what the medium gives back."""
    if not waiting:
        return
    try:
        if not (job.whole_sync and disk.flush_filesystem(waiting[0].fd)):
            disk.flush_files([written.fd for written in waiting])
        for written in waiting:
            medium.forget(written.fd)
        for written in waiting:
            if written.size < AROUND:
                medium.expect(written.fd)
    except OSError as error:
        for written in waiting:
            outcomes[written.place] = CopyOutcome("cut-off", why=system_words(error))
            discard(job.tasks[written.place].target)
        return
    for written in waiting:
        why = _differs(written)
        if why is not None:
            outcomes[written.place] = CopyOutcome("cut-off", why=why)
            discard(job.tasks[written.place].target)


def _differs(written: _Written) -> str | None:
    try:
        if written.size >= AROUND:
            medium.bypass(written.fd, True)
        back = read_again(written.fd, written.size)
    except OSError as error:
        return system_words(error)
    if digests.once("blake3", back) != written.blake3:
        return "what the drive gave back differs from what was written to it"
    return None
