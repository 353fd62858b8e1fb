"""Carry out copy and digest jobs in this process.

Small files go many at a time: read, digest, write each; flush them all; drop
what memory holds; read all back. Large ones go through `stream`.
"""

from __future__ import annotations

import errno
import mmap
import os
import stat
import threading
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from dunechest.transfer import digests, disk, medium, stream
from dunechest.transfer.tasks import (
    AROUND,
    WHOLE,
    CopyJob,
    CopyOutcome,
    CopyTask,
    DigestOutcome,
    DigestTask,
    Done,
    Job,
)

Tell = Callable[[int], None]

_READ = (
    os.O_RDONLY
    | getattr(os, "O_NOFOLLOW", 0)
    | getattr(os, "O_NONBLOCK", 0)
    | getattr(os, "O_CLOEXEC", 0)
    | getattr(os, "O_BINARY", 0)
)
_WRITE_NEW = (
    os.O_RDWR
    | os.O_CREAT
    | os.O_EXCL
    | getattr(os, "O_NOFOLLOW", 0)
    | getattr(os, "O_CLOEXEC", 0)
    | getattr(os, "O_BINARY", 0)
)

#: Pauses in seconds before a file that changed while it was read is read again; the last one is
#: longer than the coarsest tick below.
_PAUSES = (0.05, 0.3, 2.1)
#: A time stamp this young (ns) may be given again to a later change: clocks of filesystems tick.
_TICK_FINE = 20_000_000
_TICK_COARSE = 2_000_000_000


def perform(number: int, job: Job, tell: Tell) -> Done:
    """Do one job and return its outcomes."""
    if isinstance(job, CopyJob):
        return Done(number, copies=copy_files(job, tell))
    return Done(number, digests=digest_files(job.tasks, tell))


def _umask() -> int:
    """Ask for this process's umask, which can only be asked for by setting it."""
    mask = os.umask(0o077)
    os.umask(mask)
    return mask


#: Permission bits that new files of this process do not get.
UMASK = _umask()


class _Moved(Exception):
    """The source changed between the first look and the last."""


@dataclass(slots=True)
class _Written:
    """A small file that is written and waits for its proof."""

    fd: int
    place: int
    blake3: bytes
    size: int


def copy_files(job: CopyJob, tell: Tell) -> list[CopyOutcome]:
    """Copy a batch of files; one outcome a task, in order."""
    outcomes: list[CopyOutcome] = []
    waiting: list[_Written] = []
    try:
        for place, task in enumerate(job.tasks):
            outcomes.append(_copy_one(task, place, waiting, job, tell))
            if outcomes[-1].state == "cut-off":
                break
            if job.later and waiting:
                _close(waiting.pop().fd)
        _prove(waiting, outcomes, job)
    finally:
        for written in waiting:
            _close(written.fd)
    for _ in range(len(outcomes), len(job.tasks)):
        outcomes.append(CopyOutcome("cut-off", why="not begun"))
    return outcomes


def _copy_one(task: CopyTask, place: int, waiting: list[_Written], job: CopyJob, tell: Tell) -> CopyOutcome:
    """Copy a file, again if it changed meanwhile."""
    for again, pause in enumerate((*_PAUSES, None)):
        try:
            outcome = _attempt(task, place, waiting, job, tell if again == 0 else _untold)
        except _Moved:
            if pause is None:
                why = f"it changed each of the {len(_PAUSES) + 1} times it was read"
                return CopyOutcome("changing", why=why, again=again)
            time.sleep(pause)
            continue
        except FileNotFoundError:
            return CopyOutcome("vanished", why="it was there at the start and is gone now")
        except stream.TargetFailed as failure:
            return CopyOutcome("cut-off", why=_words(failure.__cause__))
        except OSError as error:
            return CopyOutcome("unreadable", why=_words(error))
        if again and outcome.state == "ok":
            return CopyOutcome(
                "ok", outcome.size, outcome.mtime_ns, outcome.mode, outcome.blake3, outcome.sha512, "", again
            )
        return outcome
    raise AssertionError("the last round returns")


def _untold(count: int) -> None:
    """Say nothing: these bytes were counted the first time."""


def _words(error: BaseException | None) -> str:
    if isinstance(error, OSError):
        return f"{error.strerror or error} ({errno.errorcode.get(error.errno or 0, error.errno)})"
    return str(error)


class _Buffer(threading.local):
    """One buffer a thread, page-aligned as uncached reading and writing asks for, and used again and again.

    Fresh memory for each file would cost more than reading it.
    """

    def __init__(self) -> None:
        self._map: mmap.mmap | None = None

    def view(self) -> memoryview:
        """Return all of it: a block more than the largest file it is used for."""
        if self._map is None:
            self._map = mmap.mmap(-1, WHOLE + _BLOCK)
        return memoryview(self._map)


_BLOCK = 4096
_BUFFER = _Buffer()


def _attempt(task: CopyTask, place: int, waiting: list[_Written], job: CopyJob, tell: Tell) -> CopyOutcome:
    source = os.open(task.source, _READ)
    try:
        before = os.fstat(source)
        if not stat.S_ISREG(before.st_mode):
            raise OSError(errno.EINVAL, "it is no longer a regular file")
        if before.st_size > WHOLE:
            return _copy_large(task, source, before, job.sha512, tell)
        opened = time.time_ns()
        data = _read_whole(source, before.st_size)
        if task.expect is None:  # otherwise the digest decides
            _still(source, before, len(data), opened)
    finally:
        os.close(source)
    tell(len(data))
    fast = digests.once("blake3", data)
    if task.expect is not None and fast != task.expect:
        return CopyOutcome("not-sound", len(data), blake3=fast, why="its bytes differ from the record")
    slow = digests.once("sha512", data) if job.sha512 else b""
    try:
        target = disk.create(task.target, _WRITE_NEW, task.mode)
    except OSError as error:
        raise stream.TargetFailed from error
    try:
        around = len(data) >= AROUND and medium.bypass(target, True)
        _write_whole(target, data, around)
        _dress(target, task, before)
    except OSError as error:
        _close(target)
        _discard(task.target)
        raise stream.TargetFailed from error
    waiting.append(_Written(target, place, fast, len(data)))
    return CopyOutcome("ok", len(data), before.st_mtime_ns, stat.S_IMODE(before.st_mode), fast, slow)


def _read_whole(fd: int, size: int) -> bytes | memoryview:
    """Read an open file to its end, one byte more than expected being enough to see that it grew.

    A memoryview of the thread's buffer is good until the next call.
    """
    if size < AROUND or not hasattr(os, "preadv"):
        return _read_bytes(fd, size)
    view = _BUFFER.view()
    done = 0
    # A whole number of blocks is asked for each time, as long as reading goes around the cache.
    while done <= size and (got := os.preadv(fd, [view[done : size + _BLOCK - size % _BLOCK]], done)):
        done += got
        if done % _BLOCK:
            break
    return view[:done]


def _read_bytes(fd: int, size: int) -> bytes:
    data = os.read(fd, size + 1)
    if len(data) == size:
        return data
    parts = [data]
    while parts[-1] and sum(map(len, parts)) <= 2 * WHOLE:
        parts.append(os.read(fd, WHOLE))
    return b"".join(parts)


def _write_whole(fd: int, data: bytes | memoryview, around: bool) -> None:
    rest = memoryview(data)
    if around:
        body = len(rest) - len(rest) % _BLOCK
        try:
            while body:
                count = disk.write(fd, rest[:body])
                rest, body = rest[count:], body - count
                if count % _BLOCK:
                    break
        except OSError as error:
            if error.errno != errno.EINVAL:  # this filesystem wants other blocks
                raise
        medium.bypass(fd, False)
    while rest:
        rest = rest[disk.write(fd, rest) :]


def _still(fd: int, before: os.stat_result, got: int, opened_ns: int) -> None:
    """Raise `_Moved` unless the open file is what it was, and was read whole.

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
        raise _Moved
    # A change within one tick of the clock leaves the time stamp as it is, so a stamp
    # from this very moment proves nothing yet.
    youngest = max(before.st_mtime_ns, before.st_ctime_ns)
    tick = _TICK_COARSE if before.st_mtime_ns % 1_000_000_000 == 0 == before.st_ctime_ns % 10_000_000 else _TICK_FINE
    if abs(opened_ns - youngest) < tick:  # rounding may put it into the near future
        raise _Moved


def _dress(fd: int, task: CopyTask, info: os.stat_result) -> None:
    """Give a new file its permission bits and time, as far as the filesystem has such things."""
    stamp = info.st_mtime_ns if task.expect is None else task.mtime_ns
    try:
        if task.mode & UMASK and hasattr(os, "fchmod"):  # otherwise it was made with that mode
            os.fchmod(fd, task.mode)
        if os.utime in os.supports_fd:
            os.utime(fd, ns=(stamp, stamp))
        else:
            os.utime(task.target, ns=(stamp, stamp))
    except (PermissionError, NotImplementedError):
        pass  # recorded beside the file; some filesystems cannot hold them
    except OSError as error:
        if error.errno not in (errno.EOPNOTSUPP, errno.EINVAL, errno.ENOSYS, errno.EOVERFLOW):
            raise


def _close(fd: int) -> None:
    """Close a written file. A drive that is gone says so here once more; the other files are closed all the same."""
    try:
        os.close(fd)
    except OSError:
        pass  # what it held was flushed and proven before, or is given up


def _discard(path: bytes) -> None:
    try:
        disk.remove(path)
    except OSError:
        pass  # the drive is gone; its next opening clears it away


def _copy_large(task: CopyTask, source: int, before: os.stat_result, sha512: bool, tell: Tell) -> CopyOutcome:
    try:
        target = disk.create(task.target, _WRITE_NEW, task.mode)
    except OSError as error:
        raise stream.TargetFailed from error
    kept = False
    try:
        opened = time.time_ns()
        size, read, back, slow = stream.copy(
            source, target, sha512=sha512, tell=tell, most=before.st_size + (64 << 20)
        )
        if task.expect is None:
            _still(source, before, size, opened)
        if task.expect is not None and read != task.expect:
            return CopyOutcome("not-sound", size, blake3=read, why="its bytes differ from the record")
        if back != read:
            return CopyOutcome("cut-off", why="what the drive gave back differs from what was written to it")
        try:
            _dress(target, task, before)
        except OSError as error:
            raise stream.TargetFailed from error
        kept = True
        return CopyOutcome("ok", size, before.st_mtime_ns, stat.S_IMODE(before.st_mode), read, slow)
    finally:
        _close(target)
        if not kept:
            _discard(task.target)


def _prove(waiting: Sequence[_Written], outcomes: list[CopyOutcome], job: CopyJob) -> None:
    """Flush the small files of a batch, then compare what the medium gives back."""
    if not waiting:
        return
    try:
        if not (job.whole_sync and disk.flush_filesystem(waiting[0].fd)):
            for written in waiting:
                disk.flush_file(written.fd)
        for written in waiting:
            medium.forget(written.fd)
        for written in waiting:
            if written.size < AROUND:
                medium.expect(written.fd)
    except OSError as error:
        for written in waiting:
            outcomes[written.place] = CopyOutcome("cut-off", why=_words(error))
            _discard(job.tasks[written.place].target)
        return
    for written in waiting:
        why = _differs(written)
        if why is not None:
            outcomes[written.place] = CopyOutcome("cut-off", why=why)
            _discard(job.tasks[written.place].target)


def _differs(written: _Written) -> str | None:
    try:
        os.lseek(written.fd, 0, os.SEEK_SET)
        if written.size >= AROUND:
            medium.bypass(written.fd, True)
        back = _read_whole(written.fd, written.size)
    except OSError as error:
        return _words(error)
    if digests.once("blake3", back) != written.blake3:
        return "what the drive gave back differs from what was written to it"
    return None


def digest_files(tasks: Sequence[DigestTask], tell: Tell) -> list[DigestOutcome]:
    """Digest a batch of files as the medium holds them; one outcome a task, in order."""
    opened = [_open_to_digest(task) for task in tasks]
    outcomes = []
    try:
        for place, task in enumerate(tasks):
            item = opened[place]
            if isinstance(item, DigestOutcome):
                outcomes.append(item)
                continue
            try:
                outcomes.append(_digest_one(*item, task, tell))
            except OSError as error:
                outcomes.append(DigestOutcome("unreadable", why=_words(error)))
            os.close(item[0])
            opened[place] = outcomes[-1]
    finally:
        for item in opened:
            if not isinstance(item, DigestOutcome):
                os.close(item[0])
    return outcomes


def _open_to_digest(task: DigestTask) -> tuple[int, int] | DigestOutcome:
    """Open a file and have the system start to read it; return the descriptor and the size."""
    try:
        fd = os.open(task.path, _READ)
    except FileNotFoundError:
        return DigestOutcome("vanished", why="there is no such file")
    except OSError as error:
        return DigestOutcome("unreadable", why=_words(error))
    try:
        info = os.fstat(fd)
        if not stat.S_ISREG(info.st_mode):
            os.close(fd)
            return DigestOutcome("unreadable", why="it is not a regular file")
        medium.forget(fd)
        if info.st_size < AROUND:
            medium.expect(fd)
    except OSError as error:
        os.close(fd)
        return DigestOutcome("unreadable", why=_words(error))
    return fd, info.st_size


def _digest_one(fd: int, size: int, task: DigestTask, tell: Tell) -> DigestOutcome:
    if size > WHOLE:
        size, results = stream.digest(fd, task.algorithms, tell)
        return DigestOutcome("ok", size, results)
    if size >= AROUND:
        medium.bypass(fd, True)
    data = _read_whole(fd, size)
    tell(len(data))
    return DigestOutcome("ok", len(data), tuple([digests.once(name, data) for name in task.algorithms]))
