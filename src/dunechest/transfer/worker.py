"""The worker process: reads jobs from standard input, writes outcomes to standard output.

It is started by `workers` and imports as little as it can, because several run at
once.
"""

from __future__ import annotations

import signal
import sys
import time
from typing import BinaryIO

from dunechest.transfer import copying
from dunechest.transfer.messages import Decoder, receive, send
from dunechest.transfer.tasks import Numbered, Told


class _Teller:
    """Gather progress, so that a message goes out at most every tenth of a second."""

    def __init__(self, pipe: BinaryIO) -> None:
        self._pipe = pipe
        self._bytes = 0
        self._last = time.monotonic()

    def __call__(self, count: int) -> None:
        self._bytes += count
        now = time.monotonic()
        if now - self._last > 0.1:
            self.flush()
            self._last = now

    def flush(self) -> None:
        """Send what has gathered."""
        if self._bytes:
            send(self._pipe, Told(self._bytes))
            self._bytes = 0


def allow_many_files() -> None:
    """Raise this process's limit of open files as far as it may, for the batches."""
    if sys.platform == "win32":  # it has no such limit
        return
    import resource

    soft, hard = resource.getrlimit(resource.RLIMIT_NOFILE)
    wanted = 4096 if hard == resource.RLIM_INFINITY else min(hard, 4096)
    if soft < wanted:
        resource.setrlimit(resource.RLIMIT_NOFILE, (wanted, hard))


def end_with_parent() -> None:
    """Have the system end this process with the one that started it, where it can (Linux, ``prctl(2)``).

    Elsewhere the worker ends when its input does, after the batch it is at.
    """
    if sys.platform == "linux":
        import ctypes

        set_death_signal = 1
        ctypes.CDLL(None).prctl(set_death_signal, signal.SIGKILL)


def main() -> int:
    """Serve until standard input ends."""
    end_with_parent()
    # Ctrl-C goes to the whole group; only the main process decides what it means.
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    allow_many_files()
    jobs: Decoder[Numbered] = Decoder(Numbered)
    tell = _Teller(sys.stdout.buffer)
    while (body := receive(sys.stdin.buffer)) is not None:
        numbered = jobs.decode(body)
        done = copying.perform(numbered.number, numbered.job, tell)
        tell.flush()
        send(sys.stdout.buffer, done)
    return 0
