"""A library is watched until its placeholders are filled and its application is closed."""

from __future__ import annotations

import subprocess
import sys
from pathlib import Path

import dunechest
from dunechest.cli.views.watch import line
from tests.support.burrow import leave_name
from tests.support.runs import Command


class Time:
    """A clock that waits by doing something."""

    def __init__(self, *steps: object) -> None:
        self.seconds = 0.0
        self.steps = list(steps)

    def wait(self, seconds: float) -> None:
        self.seconds += seconds
        if self.steps and callable(step := self.steps.pop(0)):
            step()

    def now(self) -> float:
        return self.seconds


def test_it_shows_what_is_still_to_come_and_ends_when_all_is_here(tmp_path: Path) -> None:
    for number in range(4):
        leave_name(tmp_path / f"{number}.mov", 1_000_000)
    time = Time(*(lambda n=n: (tmp_path / f"{n}.mov").write_bytes(b"m" * 1_000_000) for n in range(4)))
    looks = list(dunechest.watch(tmp_path, every=10, wait=time.wait, now=time.now))
    assert [look.placeholder_count for look in looks] == [4, 3, 2, 1, 0, 0, 0]
    assert [look.complete for look in looks] == [False] * 6 + [True]
    assert (looks[2].bytes_per_second, looks[2].seconds_left) == (100_000, 20)
    assert "2 placeholders left, 2.0 MB; +100 kB a second; about 20 s left" in line(looks[2])


def test_it_says_when_nothing_has_moved_for_a_while(tmp_path: Path) -> None:
    leave_name(tmp_path / "a.mov", 1_000_000)
    time = Time(*[None] * 20, lambda: (tmp_path / "a.mov").write_bytes(b"m" * 10))
    looks = list(dunechest.watch(tmp_path, every=10, wait=time.wait, now=time.now))
    assert looks[20].seconds_unchanged == 200
    assert "nothing has changed for 3 min 20 s" in line(looks[20])
    assert looks[-1].complete


def test_an_open_application_keeps_it_from_being_finished(tmp_path: Path) -> None:
    (tmp_path / "a.txt").write_text("a")
    program = "import sys; f = open(sys.argv[1]); print(1, flush=True); sys.stdin.read()"
    with subprocess.Popen(
        [sys.executable, "-c", program, tmp_path / "a.txt"], stdin=subprocess.PIPE, stdout=subprocess.PIPE
    ) as process:
        assert process.stdout is not None and process.stdin is not None
        process.stdout.readline()

        def close() -> None:
            assert process.stdin is not None
            process.stdin.close()
            process.wait()

        time = Time(*[None] * 5, close)
        looks = list(dunechest.watch(tmp_path, wait=time.wait, now=time.now))
    assert all(look.processes and not look.complete for look in looks[:6])
    assert looks[-1].complete and not looks[-1].processes


def test_the_command_ends_with_a_sentence(tmp_path: Path, command: Command) -> None:
    (tmp_path / "a.txt").write_text("a")
    ran = command("look", tmp_path, "--watch")
    assert (ran.status, "is complete and closed: 1 file, 1 byte" in ran.out) == (0, True)
    assert command("look", tmp_path, "--watch", "--json").library["complete"] is True
    assert command("look", tmp_path, "--watch", "--on", "x").status == 2
