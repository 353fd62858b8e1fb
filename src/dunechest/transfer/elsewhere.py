"""Folders that stand in for a place on a server: what is done below one is done there.

A chest on a server is worked on through a folder on this computer that has its records and, for all other files, empty
ones of their size. Bytes are read from and written to the server by the jobs of the workers; names are changed there before they
are changed here. This module knows which folder stands in for what; it knows no server.
"""

from __future__ import annotations

import os
import threading
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import AbstractContextManager
from typing import Any, Protocol

from dunechest.paths import prefix_of
from dunechest.transfer.tasks import (
    CopyJob,
    CopyOutcome,
    CopyTask,
    DigestJob,
    DigestOutcome,
    DigestTask,
    Done,
    Job,
    Tell,
)


class Place(Protocol):
    """A place on a server."""

    #: What speaks to it, such as ``sftp``; what tells it from all other places, and its server from all other drives; where
    #: it is, for people; how many transfers it takes at once.
    kind: str
    identity: str
    drive: str
    where: str
    connections: int

    def copy_in(self, task: CopyTask, sha512: bool, tell: Tell) -> CopyOutcome:
        """Copy a file of this computer there, and prove it."""

    def copy_out(self, task: CopyTask, sha512: bool, tell: Tell) -> CopyOutcome:
        """Copy a file from there to this computer, and prove it."""

    def digest(self, task: DigestTask, tell: Tell) -> DigestOutcome:
        """Read a file there and digest it."""

    def change(self, operation: str, *paths: str) -> None:
        """Change a name there, as it is about to be changed here."""

    def hold(self, owner: str) -> AbstractContextManager[None]:
        """Hold the place for changing."""

    def free(self) -> int | None:
        """Return the bytes that are free there, if the server says."""


_places: dict[str, Place] = {}


def register(folder: str, place: Place) -> None:
    """Have a folder stand in for a place."""
    _places[folder] = place


def unregister(folder: str) -> None:
    """Have a folder stand in for nothing any more."""
    _places.pop(folder, None)


def registered() -> bool:
    """Whether any folder stands in for a place."""
    return bool(_places)


def place_of(path: str | bytes | os.PathLike[Any]) -> Place | None:
    """Return the place that a path is in; None if it is on this computer."""
    if not _places:
        return None
    text = os.fsdecode(path)
    for folder, place in _places.items():
        if text == folder or text.startswith(prefix_of(folder)):
            return place
    return None


def run(jobs: Iterable[Job], tell: Tell, perform: Callable[[int, Job, Tell], Done]) -> Iterator[Done]:
    """Carry out jobs some of whose files are elsewhere; yield each one's outcome in the order of the jobs.

    Parameters
    ----------
    jobs : iterable of Job
        What is to be done.
    tell : callable
        Called with numbers of bytes, from one thread at a time.
    perform : callable
        Does a job whose files are all here.
    """
    lock = threading.Lock()

    def told(count: int) -> None:
        with lock:
            tell(count)

    most = max((place.connections for place in _places.values()), default=1)
    waiting: deque[tuple[int, Job, list[Future[Any]]]] = deque()
    pool = ThreadPoolExecutor(most)
    ended = False
    try:
        for number, job in enumerate(jobs):
            waiting.append((number, job, _begin(pool, job, told, perform)))
            # A few jobs ahead, so that a large file does not keep the others from being begun.
            while len(waiting) > 2 * most or sum(len(item[2]) for item in waiting) > 4096:
                yield _end(*waiting.popleft(), told, perform)
        while waiting:
            yield _end(*waiting.popleft(), told, perform)
        ended = True
    finally:
        # Who was interrupted does not wait for a large file to be sent: its connection is closed.
        pool.shutdown(wait=ended, cancel_futures=True)


def _begin(
    pool: ThreadPoolExecutor, job: Job, tell: Tell, perform: Callable[[int, Job, Tell], Done]
) -> list[Future[Any]]:
    """Have those tasks of a job begun whose files are elsewhere."""
    if isinstance(job, CopyJob):
        return [pool.submit(_copy, task, job, tell, perform) for task in job.tasks]
    if isinstance(job, DigestJob) and any(place_of(task.path) is not None for task in job.tasks):
        return [pool.submit(_digest, task, tell, perform) for task in job.tasks]
    return []


def _end(
    number: int, job: Job, futures: list[Future[Any]], tell: Tell, perform: Callable[[int, Job, Tell], Done]
) -> Done:
    if isinstance(job, CopyJob):
        return Done(number, copies=[future.result() for future in futures])
    if futures:
        return Done(number, digests=[future.result() for future in futures])
    return perform(number, job, tell)


def _copy(task: CopyTask, job: CopyJob, tell: Tell, perform: Callable[[int, Job, Tell], Done]) -> CopyOutcome:
    target, source = place_of(task.target), place_of(task.source)
    if target is not None:
        return target.copy_in(task, job.sha512, tell)
    if source is not None:
        return source.copy_out(task, job.sha512, tell)
    outcomes = perform(0, CopyJob([task], job.sha512, False), tell).copies or []
    return outcomes[0]


def _digest(task: DigestTask, tell: Tell, perform: Callable[[int, Job, Tell], Done]) -> DigestOutcome:
    place = place_of(task.path)
    if place is not None:
        return place.digest(task, tell)
    outcomes = perform(0, DigestJob([task]), tell).digests or []
    return outcomes[0]
