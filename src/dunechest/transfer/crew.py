"""A crew: several worker processes that take jobs and hand their outcomes back in order.

Processes and not threads, because for thousands of small files most of the time
is in the interpreter and in short file calls, where threads only wait for each
other. A small job is done in the calling process: starting workers would cost more.
"""

from __future__ import annotations

import os
import queue
import subprocess
import sys
import threading
from collections.abc import Callable, Iterable, Iterator
from pathlib import Path
from types import TracebackType
from typing import BinaryIO, Self, TypeVar

import msgspec

from dunechest.errors import CutOff
from dunechest.transfer import copying, medium
from dunechest.transfer.tasks import SMALL, CopyTask, DigestTask, Done, Job, Numbered, Told
from dunechest.transfer.worker import receive, send

#: A batch of small files ends at so many files or bytes.
BATCH_FILES = 192
BATCH_BYTES = 16 << 20

#: Jobs a worker has in hand: the one it does, and the next, so that it never waits.
_IN_HAND = 2


_Task = TypeVar("_Task", CopyTask, DigestTask)


def batches(tasks: Iterable[_Task]) -> Iterator[list[_Task]]:
    """Group tasks into batches: small files together, a large one alone."""
    batch: list[_Task] = []
    total = 0
    for task in tasks:
        if task.size > SMALL:
            yield [task]
            continue
        batch.append(task)
        total += task.size
        if len(batch) >= BATCH_FILES or total >= BATCH_BYTES:
            yield batch
            batch, total = [], 0
    if batch:
        yield batch


def workers_for(files: int, total: int, *places: str | os.PathLike[str]) -> int:
    """How many workers suit a job.

    Parameters
    ----------
    files, total : int
        Number of files and their bytes.
    places : path
        Folders that are read from or written to.

    Returns
    -------
    int
        0 for a job so small that this process does it; 1 where a disk turns,
        since its head can be at one place only; else one more than processors
        (a worker that waits for the drive leaves its processor to another), at most 4.
    """
    if files <= 2 * BATCH_FILES and total <= 32 << 20:
        return 0
    if any(medium.rotates(place) for place in places):
        return 1
    count = os.cpu_count() or 1
    return min(4, count + 1)


class Crew:
    """Workers that live as long as the ``with`` block.

    Parameters
    ----------
    workers : int
        Number of processes; 0 does everything in this one.
    tell : callable
        Called with numbers of bytes as they are read.
    """

    def __init__(self, workers: int, tell: Callable[[int], None]) -> None:
        self._count = workers if sys.executable else 0
        self._tell = tell
        self._processes: list[subprocess.Popen[bytes]] = []
        self._answers: queue.SimpleQueue[tuple[int, Told | Done | None]] = queue.SimpleQueue()

    def __enter__(self) -> Self:
        for number in range(self._count):
            process = _start()
            self._processes.append(process)
            threading.Thread(target=self._listen, args=(number, process.stdout), daemon=True).start()
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        for process in self._processes:
            if kind is not None:
                process.kill()
            if process.stdin is not None:
                try:
                    process.stdin.close()
                except OSError:
                    pass
        for process in self._processes:
            process.wait()
            if process.stdout is not None:
                process.stdout.close()

    def _listen(self, number: int, pipe: BinaryIO | None) -> None:
        assert pipe is not None
        answers = msgspec.msgpack.Decoder(Told | Done)
        try:
            while (body := receive(pipe)) is not None:
                self._answers.put((number, answers.decode(body)))
        except (OSError, ValueError, msgspec.MsgspecError):
            pass
        self._answers.put((number, None))

    def run(self, jobs: Iterable[Job]) -> Iterator[Done]:
        """Carry out jobs; yield each one's outcome in the order of the jobs.

        Raises
        ------
        CutOff
            If a worker process was ended from outside.
        """
        if not self._processes:
            for number, job in enumerate(jobs):
                yield copying.perform(number, job, self._tell)
            return
        source = enumerate(jobs)
        hands = [0] * len(self._processes)
        early: dict[int, Done] = {}
        wanted = 0
        exhausted = False
        while True:
            while not exhausted and (idle := min(range(len(hands)), key=hands.__getitem__)) is not None:
                # Not too far ahead of a slow large file: what waits to be delivered costs memory.
                if hands[idle] >= _IN_HAND or len(early) > 256:
                    break
                item = next(source, None)
                if item is None:
                    exhausted = True
                    break
                self._give(idle, Numbered(*item))
                hands[idle] += 1
            if exhausted and not any(hands):
                break
            worker, answer = self._answers.get()
            if answer is None:
                raise CutOff("A helper process of this program was ended from outside. Run the command again.")
            if isinstance(answer, Told):
                self._tell(answer.bytes)
                continue
            hands[worker] -= 1
            early[answer.number] = answer
            while wanted in early:
                yield early.pop(wanted)
                wanted += 1

    def _give(self, worker: int, numbered: Numbered) -> None:
        pipe = self._processes[worker].stdin
        assert pipe is not None
        try:
            send(pipe, numbered)  # type: ignore[arg-type]
        except OSError as error:
            raise CutOff("A helper process of this program was ended from outside. Run the command again.") from error


def _start() -> subprocess.Popen[bytes]:
    # -P keeps the current folder, which may be a stranger's drive, off the import path;
    # the package itself is named, so that it is found wherever it was imported from.
    package = str(Path(__file__).resolve().parents[2])
    inherited = os.environ.get("PYTHONPATH")
    path = package + (os.pathsep + inherited if inherited else "")
    return subprocess.Popen(
        [sys.executable, "-P", "-m", "dunechest.transfer.worker"],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        env={**os.environ, "PYTHONPATH": path},
    )
