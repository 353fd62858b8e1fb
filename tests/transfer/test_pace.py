"""The limit of bytes a second."""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from dunechest.transfer import pace
from dunechest.transfer.pace import Paced, limited
from dunechest.transfer.workers import Workers


@given(
    counts=st.lists(st.integers(0, 5_000_000), min_size=1, max_size=200),
    work=st.lists(st.floats(0, 0.5), min_size=1, max_size=50),
    rate=st.floats(1e5, 1e8),
)
def test_no_stretch_has_more_than_the_limit(counts: list[int], work: list[float], rate: float) -> None:
    """On a clock of its own: whatever the work between takes, no more is read than the limit and one burst allow."""
    now, told, moments = [100.0], [], []

    def wait(seconds: float) -> None:
        now[0] += seconds

    paced = Paced(rate, told.append, now=lambda: now[0], wait=wait)
    for number, count in enumerate(counts):
        paced(count)
        moments.append(now[0])
        now[0] += work[number % len(work)]
    assert told == counts
    for first in range(0, len(counts), 7):
        seconds = moments[-1] - moments[first]
        assert sum(counts[first + 1 :]) <= rate * (seconds + pace.BURST) * 1.000001 + 1


def test_the_time_without_work_is_no_longer_than_needed() -> None:
    now = [0.0]
    paced = Paced(1000.0, lambda count: None, now=lambda: now[0], wait=lambda s: now.__setitem__(0, now[0] + s))
    for _ in range(100):
        paced(100)
    assert now[0] == pytest.approx(10.0, abs=0.2)


def test_a_limited_crew_is_one_process_and_the_limit_ends_with_its_block(tmp_path: Path) -> None:
    assert pace.limit() is None
    with limited(5e6):
        assert pace.limit() == 5e6
        assert Workers.for_job(100_000, 10**10, [tmp_path], lambda count: None).workers == 0
        with limited(None):
            assert Workers.for_job(100_000, 10**10, [tmp_path], lambda count: None).workers > 0
    assert pace.limit() is None
