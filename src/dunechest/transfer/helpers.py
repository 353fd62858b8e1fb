"""Helper processes: started, asked, kept for the next piece of work, and ended.

The workers takes its helpers from here. Within a `standing` block they are kept between one workers and the next, can be started
before they are needed, and do a job beside what the calling process does.
"""

from __future__ import annotations

import os
import sys
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import IO, TYPE_CHECKING

import msgspec

from dunechest.errors import CutOffError
from dunechest.transfer import pace
from dunechest.transfer.messages import Decoder, receive, send
from dunechest.transfer.tasks import Done, Job, Numbered, Told

if TYPE_CHECKING:
    import subprocess
    from queue import SimpleQueue

    Answers = SimpleQueue[tuple["Helper", Told | Done | None]]

#: Files from which on having a helper look at them saves more than starting it costs.
WORTH_ASKING = 5_000

ENDED = "A helper process of this program was ended from outside. Run the command again to continue."


class Helper:
    """A helper process, and the thread that listens to it; where its answers go changes with whom it helps."""

    def __init__(self) -> None:
        from queue import SimpleQueue

        self.process = _start()
        self.answers: Answers = SimpleQueue()
        assert self.process.stdout is not None
        answers: Decoder[Told | Done] = Decoder(Told | Done)
        told = self.process.stdout, answers
        threading.Thread(target=self._listen, args=told, daemon=True).start()

    def _listen(self, pipe: IO[bytes], answers: Decoder[Told | Done]) -> None:
        try:
            while (body := receive(pipe)) is not None:
                self.answers.put((self, answers.decode(body)))
        except (OSError, ValueError, msgspec.MsgspecError):
            pass
        self.answers.put((self, None))

    def give(self, numbered: Numbered) -> None:
        """Hand a job over.

        Raises
        ------
        CutOffError
            If the process was ended from outside.
        """
        assert self.process.stdin is not None
        try:
            send(self.process.stdin, numbered)
        except OSError as error:
            raise CutOffError(ENDED) from error

    def end(self, *, at_once: bool) -> None:
        """End the process, after what it has in hand or at once, and wait for its end."""
        if at_once:
            self.process.kill()
        assert self.process.stdin is not None and self.process.stdout is not None
        try:
            self.process.stdin.close()
        except OSError:
            pass
        self.process.wait()
        self.process.stdout.close()


def _start() -> subprocess.Popen[bytes]:
    import subprocess

    # -P keeps the current folder, which may be a stranger's drive, off the import path;
    # the package itself is named, so that it is found wherever it was imported from.
    package = str(Path(__file__).resolve().parents[2])
    inherited = os.environ.get("PYTHONPATH")
    path = package + (os.pathsep + inherited if inherited else "")
    return subprocess.Popen(
        [sys.executable, "-P", "-m", "dunechest.transfer"],
        stdin=subprocess.PIPE,
        stdout=subprocess.PIPE,
        env={**os.environ, "PYTHONPATH": path},
    )


def can_help() -> bool:
    """Whether there can be helpers: not where bytes are counted out, which one process must do."""
    return bool(sys.executable) and pace.limit() is None


class _Standing(threading.local):
    """Helpers that wait, and those that are at a job of their own; of each thread, with which the system may end them."""

    def __init__(self) -> None:
        self.waiting: list[Helper] | None = None
        self.busy: list[Helper] = []


_standing = _Standing()


@contextmanager
def standing() -> Iterator[None]:
    """Keep helpers for as long as the block lasts; a block within another changes nothing."""
    if _standing.waiting is not None:
        yield
        return
    _standing.waiting = []
    try:
        yield
    finally:
        helpers = [*_standing.waiting, *_standing.busy]
        _standing.waiting, _standing.busy = None, []
        for helper in helpers:
            helper.process.kill()  # all of them before the first is waited for
        for helper in helpers:
            helper.end(at_once=True)


def start_ahead(number: int) -> None:
    """Start helpers that will be needed soon, so that they are ready by then; only in a `standing` block."""
    if _standing.waiting is None or not can_help():
        return
    while len(_standing.waiting) < number and (helper := _new()) is not None:
        _standing.waiting.append(helper)


def _new() -> Helper | None:
    """Start a helper; None where the system lets no further process start: then others do the work."""
    try:
        return Helper()
    except OSError:
        return None


def dismiss(all_but: int) -> None:
    """End helpers that wait, where so many will do from here on: each takes memory."""
    waiting = _standing.waiting or []
    leaving = waiting[all_but:]
    del waiting[all_but:]
    for helper in leaving:
        helper.process.kill()
    for helper in leaving:
        helper.end(at_once=True)


def take() -> Helper | None:
    """Take a helper that waits, or start one; None if the system does not let it start."""
    while _standing.waiting:
        helper = _standing.waiting.pop()
        if helper.process.poll() is None:
            return helper
        helper.end(at_once=True)
    return _new()


def give_back(helper: Helper) -> None:
    """Keep a helper that has nothing in hand for the next who needs one, or end it."""
    if _standing.waiting is None:
        helper.end(at_once=False)
    else:
        _standing.waiting.append(helper)


class Asked:
    """A job that a helper does meanwhile.

    Without a helper it is done when its outcome is asked for, by the calling process.
    """

    def __init__(self, job: Job) -> None:
        self._job = job
        self._done: Done | None = None
        self._helper: Helper | None = None
        if _standing.waiting is None or not can_help():
            return
        helper = take()
        if helper is None:
            return
        try:
            helper.give(Numbered(0, job))
        except CutOffError:
            helper.end(at_once=True)
            return
        self._helper = helper
        _standing.busy.append(helper)

    def outcome(self) -> Done:
        """Wait for the outcome."""
        helper, self._helper = self._helper, None
        if helper is not None and helper in _standing.busy:
            answer: Told | Done | None = Told(0)
            while isinstance(answer, Told):
                _, answer = helper.answers.get()
            _standing.busy.remove(helper)
            if answer is None:
                helper.end(at_once=True)
            else:
                give_back(helper)
            self._done = answer
        if self._done is None:
            from dunechest.transfer.copying import perform

            self._done = perform(0, self._job, lambda count: None)
        return self._done
