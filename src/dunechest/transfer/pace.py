"""A limit to how many bytes a second are read, for whoever wants to go on working meanwhile.

With a limit one process does all: shared out among several it could not be held exactly, nor is there any need to.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from contextvars import ContextVar

Tell = Callable[[int], None]

_limit: ContextVar[float | None] = ContextVar("limit", default=None)

#: Seconds without reading that may be made up for: writing and reading back a batch takes its time, a long wait is no
#: reason for a long burst.
BURST = 2.0


@contextmanager
def limited(rate: float | None) -> Iterator[None]:
    """Read no more than so many bytes a second while the block runs; None for no limit."""
    before = _limit.set(rate)
    try:
        yield
    finally:
        _limit.reset(before)


def limit() -> float | None:
    """Return the limit that holds now, in bytes a second."""
    return _limit.get()


class Paced:
    """Counts bytes for another counter, and waits so that no more come than a limit allows.

    Parameters
    ----------
    rate : float
        Bytes a second.
    tell : callable
        The other counter.
    now, wait : callable
        Tell the seconds that went by, and wait for some.
    """

    def __init__(
        self,
        rate: float,
        tell: Tell,
        *,
        now: Callable[[], float] = time.monotonic,
        wait: Callable[[float], None] = time.sleep,
    ) -> None:
        self._rate = rate
        self._tell = tell
        self._now = now
        self._wait = wait
        self._free_at = now()

    def __call__(self, count: int) -> None:
        """Count bytes that were read, and wait until the next may be."""
        self._tell(count)
        now = self._now()
        self._free_at = max(self._free_at, now - BURST) + count / self._rate
        if self._free_at > now:
            self._wait(self._free_at - now)
