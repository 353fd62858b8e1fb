"""The workers: several worker processes that take jobs and hand their outcomes back in order.

Processes and not threads, because for thousands of small files most of the time
is in the interpreter and in short file calls, where threads only wait for each
other. A small job is done in the calling process: starting workers would cost more.
"""

from __future__ import annotations

import os
import time
from collections.abc import Callable, Iterable, Iterator, Sequence
from types import TracebackType
from typing import TYPE_CHECKING, Self, TypeVar

from dunechest.errors import CutOffError
from dunechest.transfer import copying, elsewhere, helpers, medium, pace
from dunechest.transfer.helpers import ENDED, Helper
from dunechest.transfer.tasks import (
    WHOLE,
    CopyJob,
    CopyOutcome,
    DigestJob,
    DigestOutcome,
    DigestTask,
    Done,
    Job,
    Numbered,
    Told,
)

if TYPE_CHECKING:
    import subprocess

    from dunechest.transfer.helpers import Answers

#: A batch of small files ends at so many files or bytes: each costs a flush, and keeps its files open until then.
BATCH_FILES = 512
#: Likewise where this process does the work itself: some systems let it have 256 open.
BATCH_ALONE = 192
BATCH_BYTES = 16 << 20

#: Jobs a worker has in hand: the one it does, and the next, so that it never waits.
_IN_HAND = 2


def is_large(job: Job) -> bool:
    """Whether a job is one large file."""
    return isinstance(job, CopyJob | DigestJob) and len(job.tasks) == 1 and job.tasks[0].size > WHOLE


_Item = TypeVar("_Item")


def batches(
    items: Iterable[_Item], size_of: Callable[[_Item], int], most: int = BATCH_FILES, *, in_order: bool = False
) -> Iterator[list[_Item]]:
    """Group items into batches by the sizes of their files: small files together, a large one alone.

    A large one overtakes the small ones that wait for others, unless all are to stay in order.
    """
    batch: list[_Item] = []
    total = 0
    for item in items:
        size = size_of(item)
        if size > WHOLE:
            if batch and in_order:
                yield batch
                batch, total = [], 0
            yield [item]
            continue
        batch.append(item)
        total += size
        if len(batch) >= most or total >= BATCH_BYTES:
            yield batch
            batch, total = [], 0
    if batch:
        yield batch


def workers_for(files: int, total: int) -> int:
    """Return how many workers a job gets with so many files and bytes; see `Workers.for_job`."""
    return 0 if files <= 2 * BATCH_ALONE and total <= 32 << 20 else min(4, (os.cpu_count() or 1) + 1)


class Workers:
    """Workers that live as long as the ``with`` block.

    Parameters
    ----------
    workers : int
        Number of processes; 0 does everything in this one.
    tell : callable
        Called with numbers of bytes as they are read.
    one_large : bool
        Have only one worker at a time be at a large file.
    """

    def __init__(self, workers: int, tell: Callable[[int], None], *, one_large: bool = False) -> None:
        rate = pace.limit()
        self.workers = workers if helpers.can_help() and not elsewhere.registered() else 0
        self._tell = tell if rate is None else pace.Paced(rate, tell)
        self._one_large = one_large
        self._helpers: list[Helper] = []
        #: Whether any of them may still have something in hand.
        self._at_work = False

    @property
    def processes(self) -> list[subprocess.Popen[bytes]]:
        """The processes of the workers, while they are at hand."""
        return [helper.process for helper in self._helpers]

    @classmethod
    def for_job(
        cls, files: int, total: int, places: Iterable[str | os.PathLike[str]], tell: Callable[[int], None]
    ) -> Self:
        """Make the workers that suits a job.

        None for a job so small that this process does it; else one more worker than
        processors (one that waits for the drive leaves its processor to another), at
        most four. Where a disk turns, large files go one after the other: its head can
        be at one place only.

        Parameters
        ----------
        files, total : int
            Number of files and their bytes.
        places : iterable of path
            Folders that are read from or written to.
        tell : callable
            Called with numbers of bytes as they are read.
        """
        workers = workers_for(files, total)
        return cls(workers, tell, one_large=workers > 0 and any(medium.rotates(place) for place in places))

    def __enter__(self) -> Self:
        for _ in range(self.workers):
            helper = helpers.take()
            if helper is None:
                break
            self._helpers.append(helper)
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        own, self._helpers = self._helpers, []
        if kind is not None:
            for helper in own:
                helper.process.kill()  # all of them before the first is waited for
        for helper in own:
            if kind is not None or self._at_work:
                helper.end(at_once=kind is not None)
            else:
                helpers.give_back(helper)

    def run(self, jobs: Iterable[Job]) -> Iterator[Done]:
        """Carry out jobs; yield each one's outcome in the order of the jobs.

        Raises
        ------
        CutOffError
            If a worker process was ended from outside.
        """
        if elsewhere.registered():
            yield from elsewhere.run(jobs, self._tell, copying.perform)
            return
        if not self._helpers:
            for number, job in enumerate(jobs):
                yield copying.perform(number, job, self._tell)
            return
        from queue import SimpleQueue

        answers: Answers = SimpleQueue()
        places = {}
        for place, helper in enumerate(self._helpers):
            helper.answers = answers
            places[helper] = place
        self._at_work = True
        source = enumerate(jobs)
        upcoming = next(source, None)
        hands = [0] * len(places)
        large: set[int] = set()
        early: dict[int, Done] = {}
        wanted = 0
        while upcoming is not None or any(hands):
            # Not too far ahead of a slow large file: what waits to be delivered costs memory.
            while upcoming is not None and min(hands) < _IN_HAND and len(early) < 256:
                number, job = upcoming
                if self._one_large and is_large(job):
                    if large:
                        break
                    large.add(number)
                idle = hands.index(min(hands))
                self._helpers[idle].give(Numbered(number, job))
                hands[idle] += 1
                upcoming = next(source, None)
            helper, answer = answers.get()
            if answer is None:
                raise CutOffError(ENDED)
            if isinstance(answer, Told):
                self._tell(answer.bytes)
                continue
            hands[places[helper]] -= 1
            large.discard(answer.number)
            early[answer.number] = answer
            while wanted in early:
                yield early.pop(wanted)
                wanted += 1
        self._at_work = False

    def copy_each(
        self, items: Iterable[_Item], size_of: Callable[[_Item], int], job: Callable[[Sequence[_Item]], CopyJob]
    ) -> Iterator[list[tuple[_Item, CopyOutcome]]]:
        """Copy what items stand for, in batches; yield each batch's items with their outcomes, in order.

        Parameters
        ----------
        items : iterable
            What the files stand for to the caller.
        size_of : callable
            Bytes of an item's file.
        job : callable
            The job for a batch of items: a task for each.

        Raises
        ------
        CutOffError
            If a worker process was ended from outside.
        """
        for batch, done in self._each(items, size_of, job):
            yield list(zip(batch, done.copies or (), strict=True))

    def digest_each(
        self,
        items: Iterable[_Item],
        size_of: Callable[[_Item], int],
        task: Callable[[_Item], DigestTask],
        *,
        until: float = float("inf"),
    ) -> Iterator[tuple[_Item, DigestOutcome]]:
        """Digest what items stand for; yield each with its outcome, batch by batch.

        Parameters
        ----------
        items : iterable
            What the files stand for to the caller.
        size_of : callable
            Bytes of an item's file.
        task : callable
            What to read of an item.
        until : float
            A moment (of `time.monotonic`) after which no further batch is begun; the first one always is. Where there is such
            a moment, all go in order: what is left then is what comes after the last one.

        Raises
        ------
        CutOffError
            If a worker process was ended from outside.
        """
        for batch, done in self._each(items, size_of, lambda batch: DigestJob([task(item) for item in batch]), until):
            yield from zip(batch, done.digests or (), strict=True)

    def _each(
        self,
        items: Iterable[_Item],
        size_of: Callable[[_Item], int],
        job: Callable[[Sequence[_Item]], Job],
        until: float = float("inf"),
    ) -> Iterator[tuple[list[_Item], Done]]:
        sent: dict[int, list[_Item]] = {}

        def jobs() -> Iterator[Job]:
            most = BATCH_FILES if self._helpers else BATCH_ALONE
            for number, batch in enumerate(batches(items, size_of, most, in_order=until < float("inf"))):
                if number and time.monotonic() >= until:
                    return
                sent[number] = batch
                yield job(batch)

        for done in self.run(jobs()):
            yield sent.pop(done.number), done
