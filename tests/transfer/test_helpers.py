"""Helpers are kept while there is more to do, end with it, and what one was asked for comes even if it dies."""

from __future__ import annotations

import errno
import os
import signal
import subprocess
from pathlib import Path

import pytest

from dunechest.transfer import fingerprints, helpers, pace
from dunechest.transfer.fingerprints import Sizes
from dunechest.transfer.helpers import Asked, standing, start_ahead
from dunechest.transfer.tasks import DigestJob, DigestTask, SizesJob
from dunechest.transfer.totals import sizes_total
from dunechest.transfer.walk import sizes_by_folder
from dunechest.transfer.workers import Workers


def silent(count: int) -> None:
    pass


@pytest.fixture
def tree(tmp_path: Path) -> Path:
    top = tmp_path / "tree"
    for number in range(40):
        folder = top / f"a{number % 3}" / os.fsdecode(b"b\xff") / str(number)
        folder.mkdir(parents=True)
        (folder / f"{number}\n.txt").write_text("x" * number)
    (top / "link").symlink_to("a0")
    return top


def digests(workers: Workers, path: Path) -> list[bytes]:
    job = DigestJob([DigestTask(os.fsencode(path), path.stat().st_size)])
    return [outcome.digests[0] for done in workers.run([job] * 3) for outcome in done.digests or ()]


def test_they_are_kept_within_a_block_and_not_beyond(tmp_path: Path) -> None:
    file = tmp_path / "f"
    file.write_bytes(b"abc" * 1000)
    with standing():
        start_ahead(2)
        with Workers(2, silent) as workers:
            first = list(workers.processes)
            one = digests(workers, file)
        assert all(process.poll() is None for process in first)
        with standing(), Workers(2, silent) as workers:
            assert {process.pid for process in workers.processes} == {process.pid for process in first}
            assert digests(workers, file) == one
        assert all(process.poll() is None for process in first), "a block within another ends nothing"
    assert all(process.poll() is not None for process in first)
    start_ahead(2)
    with Workers(1, silent) as workers:
        alone = workers.processes[0]
        assert digests(workers, file) == one
    assert alone.poll() == 0


def test_those_who_are_not_needed_any_more_end() -> None:
    with standing():
        start_ahead(3)
        processes = [helper.process for helper in helpers._standing.waiting or ()]
        helpers.dismiss(all_but=1)
        assert [process.poll() is None for process in processes] == [True, False, False]
        start_ahead(2)
        assert len(helpers._standing.waiting or ()) == 2
    helpers.dismiss(all_but=0)


def test_one_that_died_while_it_waited_is_replaced(tmp_path: Path) -> None:
    file = tmp_path / "f"
    file.write_bytes(b"abc")
    with standing():
        start_ahead(1)
        with Workers(1, silent) as workers:
            old = workers.processes[0]
        os.kill(old.pid, signal.SIGKILL)
        old.wait()
        with Workers(1, silent) as workers:
            assert workers.processes[0].pid != old.pid
            assert len(digests(workers, file)) == 3


def test_one_left_with_work_in_hand_is_not_kept(tmp_path: Path) -> None:
    file = tmp_path / "f"
    file.write_bytes(b"abc")
    job = DigestJob([DigestTask(os.fsencode(file), 3)])
    with standing():
        with Workers(1, silent) as workers:
            old = workers.processes[0]
            next(workers.run([job] * 5))
        assert old.poll() is not None
        with Workers(1, silent) as workers:
            assert len(digests(workers, file)) == 3


@pytest.mark.parametrize("killed", [False, True])
def test_what_was_asked_for_comes_whether_it_lives_or_not(tree: Path, killed: bool) -> None:
    job = SizesJob(os.fsencode(tree), [b""])
    alone = Asked(job).outcome()
    with standing():
        asked = Asked(job)
        (helper,) = helpers._standing.busy
        if killed:
            helper.process.kill()
        assert asked.outcome() == asked.outcome() == alone
        unasked = Asked(job)
        (process,) = [helper.process for helper in helpers._standing.busy]
    assert process.poll() is not None, "nobody waits for it"
    assert unasked.outcome() == alone
    assert (alone.files, alone.size) == (40, sum(range(40)))


def test_where_bytes_are_counted_out_nobody_helps(tree: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(pace, "limit", lambda: 1000.0)
    monkeypatch.setattr(subprocess, "Popen", lambda *a, **k: pytest.fail("a helper was started"))
    with standing():
        start_ahead(3)
        assert Asked(SizesJob(os.fsencode(tree), [b""])).outcome().files == 40


def test_where_no_process_can_be_started_one_does_it_all(tree: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    def refuse() -> None:
        raise OSError(errno.EAGAIN, os.strerror(errno.EAGAIN))

    monkeypatch.setattr(helpers, "_start", refuse)
    file = next(tree.rglob("7\n.txt"))
    with standing():
        start_ahead(3)
        with Workers(3, silent) as workers:
            assert (workers.processes, len(digests(workers, file))) == ([], 3)
        assert Asked(SizesJob(os.fsencode(tree), [b""])).outcome().files == 40


def test_sizes_are_the_same_whoever_looks(tree: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    model = sizes_total(sizes_by_folder(str(tree)))
    for many in (1, 100_000):
        monkeypatch.setattr(fingerprints, "MANY", many)
        with standing():
            sizes = Sizes(str(tree), 40)
            assert (sizes.count(), sizes.total()) == ((40, sum(range(40))), model)
    file = next(path for path in tree.rglob("7\n.txt"))
    file.write_text("x" * 8)
    assert Sizes(str(tree), 40).total() != model
    file.rename(file.with_name("8 other.txt"))
    file.with_name("8 other.txt").write_text("x" * 7)
    assert Sizes(str(tree), 40).total() != model
    assert Sizes(str(tree), 40).count() == (40, sum(range(40)))
    assert Sizes(str(tree / "none"), 40).count() == (0, 0)
