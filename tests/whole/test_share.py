"""A chest on a network share that several computers write: a folder that is mounted twice, each mount blind to the other's locks."""

from __future__ import annotations

import json
import os
import random
import shutil
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

import dunechest
from dunechest.chest import lease
from dunechest.chest.lease import Lease
from dunechest.chest.lock import locked
from dunechest.machine.drives import filesystem
from dunechest.machine.volumes import is_network
from tests.support.runs import Command

pytestmark = [pytest.mark.mounted, pytest.mark.slow]
#: Seconds; the shortest that is allowed.
SHORT = "2"
#: A computer: its clock is set apart, and before one of its operations in the chest it stops, as if its lid were closed.
COMPUTER = """
import os, signal, sys, time
apart, stop, chest, words = float(sys.argv[1]), int(sys.argv[2]), sys.argv[3] + os.sep, sys.argv[4:]
now, now_ns = time.time, time.time_ns
time.time = lambda: now() + apart
time.time_ns = lambda: now_ns() + int(apart * 1e9)
from dunechest.transfer import disk
count = 0
def gate(operation, *what):
    global count
    if not what or isinstance(what[0], int) or not os.fsdecode(what[0]).startswith(chest):
        return
    count += 1
    if count == stop:
        os.kill(os.getpid(), signal.SIGSTOP)
disk.gate = gate
from dunechest.cli import main
sys.argv = ["dunechest", *words]
try:
    status = main()
except SystemExit as ended:
    status = ended.code
if stop < 0:
    print(f"operations {count}", file=sys.stderr)
sys.exit(status)
"""


@pytest.fixture
def mounts(tmp_path: Path) -> Iterator[tuple[Path, Path]]:
    """Mount one folder twice."""
    if not os.path.exists("/dev/fuse") or os.geteuid() != 0:
        pytest.skip("no FUSE here")
    pytest.importorskip("mfusepy")
    below = tmp_path / "server"
    below.mkdir()
    places = [tmp_path / "mnt-one", tmp_path / "mnt-two"]
    servers = []
    for place in places:
        place.mkdir()
        servers.append(
            subprocess.Popen([sys.executable, "-m", "tests.support.decomposing", str(below), str(place), "share"])
        )
    try:
        for place in places:
            for _ in range(100):
                if os.path.ismount(place):
                    break
                time.sleep(0.1)
            else:
                pytest.skip("FUSE could not mount")
        yield places[0], places[1]
    finally:
        for place in places:
            subprocess.run(["umount", "-l", str(place)], check=False, capture_output=True)
        for served in servers:
            served.terminate()
            served.wait()


def _library(tmp_path: Path, name: str, text: str) -> Path:
    folder = tmp_path / name
    for number in range(6):
        (folder / f"part {number % 2}").mkdir(parents=True, exist_ok=True)
        (folder / f"part {number % 2}" / f"{name}-{number}.txt").write_text(f"{text} {number}\n" * 50)
    return folder


def _computer(
    tmp_path: Path, name: str, chest: Path, words: list[str], *, apart: float = 0.0, stop: int = -1
) -> subprocess.Popen[str]:
    env = {**os.environ, "DUNECHEST_HOME": str(tmp_path / name), lease.LENGTH: SHORT, "DUNECHEST_DRIVES": ""}
    return subprocess.Popen(
        [sys.executable, "-c", COMPUTER, str(apart), str(stop), str(chest), *words],
        env=env, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
    )  # fmt: skip


def _stopped(process: subprocess.Popen[str]) -> bool:
    """Wait until a process stopped itself; false if it ended before."""
    for _ in range(600):
        if process.poll() is not None:
            return False
        if Path(f"/proc/{process.pid}/stat").read_text().rpartition(")")[2].split()[0] == "T":
            return True
        time.sleep(0.05)
    raise AssertionError("it neither stopped nor ended")


def test_the_share_is_told_to_be_one_and_knows_no_locks_of_others(mounts: tuple[Path, Path]) -> None:
    assert all(is_network(filesystem(place).type) for place in mounts)
    chest = dunechest.Chest.create(mounts[0], "office")
    with chest.changing("one"), pytest.raises(dunechest.errors.ChestBusyError, match=r"process \d+ on one"):
        locked(mounts[1] / "dune-chest", "two").__enter__()
    with locked(mounts[1] / "dune-chest", "two"):
        pass
    left = {path.name for path in chest.folder.iterdir() if path.name.startswith(lease.NAME)}
    assert not left, "nothing stays"


def test_a_computer_that_slept_through_its_lease_commits_nothing(
    mounts: tuple[Path, Path], tmp_path: Path, command: Command
) -> None:
    """At every kind of moment: the one that took over, with a clock that is a day off, has the chest for itself."""
    one, two = (place / "dune-chest" for place in mounts)
    dunechest.Chest.create(mounts[0], "office")
    kites, ropes = _library(tmp_path, "kites", "first"), _library(tmp_path, "ropes", "first")
    first = _computer(tmp_path, "state-one", one, ["archive", str(kites), "--to", str(one)])
    said = first.communicate(timeout=60)
    assert first.returncode == 0, said
    saved = tmp_path / "saved"
    shutil.copytree(tmp_path / "server", saved)
    _library(tmp_path, "kites", "second")
    whole = _computer(tmp_path, "state-one", one, ["archive", str(kites), "--to", str(one)])
    count = int(whole.communicate(timeout=60)[1].rpartition("operations ")[2])
    assert count > 20
    draw = random.Random(3)
    moments = sorted({count - 3, *draw.sample(range(1, count - 3), int(os.environ.get("DUNECHEST_SWEEP", "1")))})
    for stop in moments:
        for place in (tmp_path / "server").iterdir():
            shutil.rmtree(place)
        shutil.copytree(saved, tmp_path / "server", dirs_exist_ok=True)
        sleeper = _computer(tmp_path, "state-one", one, ["archive", str(kites), "--to", str(one)], stop=stop)
        assert _stopped(sleeper), (stop, sleeper.communicate())
        held = (one / lease.NAME).exists()
        if held:
            begun = time.monotonic()
            early = _computer(tmp_path, "state-two", two, ["archive", str(ropes), "--to", str(two)], apart=86_400.0)
            refused = "is being changed by process" in early.communicate(timeout=60)[1] and early.returncode == 3
            # On a computer that has much to do the lease may have run out before the other one even looked.
            assert refused or time.monotonic() - begun > float(SHORT) / 2, stop
            time.sleep(float(SHORT) + 0.5)
        other = _computer(tmp_path, "state-two", two, ["archive", str(ropes), "--to", str(two)], apart=86_400.0)
        said = other.communicate(timeout=60)
        assert other.returncode == 0, (stop, said)
        before = {path: path.read_bytes() for path in sorted((tmp_path / "server").rglob("*")) if path.is_file()}
        os.kill(sleeper.pid, signal.SIGCONT)
        said = sleeper.communicate(timeout=60)
        if held:
            assert sleeper.returncode == 4 and "lost its hold" in said[1], (stop, said)
            after = {path: path.read_bytes() for path in sorted((tmp_path / "server").rglob("*")) if path.is_file()}
            assert after == before, stop
        with pytest.MonkeyPatch.context() as patch:
            patch.setenv("DUNECHEST_HOME", str(tmp_path / "state-two"))
            ran = command("verify", two)
            assert ran.status == 0, (stop, ran.out, ran.err)
        again = _computer(tmp_path, "state-one", one, ["archive", str(kites), "--to", str(one)])
        said = again.communicate(timeout=60)
        assert again.returncode == 0, (stop, said)
        assert command("verify", two).status == 0


def test_a_holder_that_is_gone_is_replaced_at_once_on_its_own_computer_and_later_elsewhere(
    mounts: tuple[Path, Path], monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv(lease.LENGTH, SHORT)
    folder = dunechest.Chest.create(mounts[0], "office").folder
    script = (
        "import os, sys, pathlib; from dunechest.chest.lease import Lease; from dunechest.machine.identity import this_run; "
        "Lease(pathlib.Path(sys.argv[1]), 'gone', sys.argv[2] or this_run()).take(); os._exit(0)"
    )
    for machine, slow in (("", False), ("another computer", True)):
        subprocess.run([sys.executable, "-c", script, str(folder), machine], check=True)
        begun = time.monotonic()
        own = Lease(mounts[1] / "dune-chest", "two", _run())
        if slow:
            with pytest.raises(dunechest.errors.ChestBusyError):
                own.take()
            time.sleep(float(SHORT))
        assert own.take(), "it is told that there was somebody"
        assert (time.monotonic() - begun < 1.5) is not slow
        own.give_up()
        assert not (folder / lease.NAME).exists()


def _run() -> str:
    from dunechest.machine.identity import this_run

    return this_run()


def test_many_who_want_a_chest_that_nobody_holds_any_more_get_it_one_after_the_other(
    mounts: tuple[Path, Path],
) -> None:
    """Twenty processes on both mounts: whenever one has the chest, it has it alone."""
    folder = dunechest.Chest.create(mounts[0], "office").folder
    record = {"token": "t", "owner": "gone", "machine": "elsewhere", "process": 1, "seconds": 2.0, "beat": 3}
    (folder / lease.NAME).write_text(json.dumps(record))
    os.utime(folder / lease.NAME, (1, 1))
    script = """
import sys, time, pathlib, os, random
from dunechest.chest.lock import locked
from dunechest.errors import ChestBusyError
folder = pathlib.Path(sys.argv[1])
for _ in range(3):
    for _ in range(400):
        try:
            with locked(folder, sys.argv[2]):
                place = folder / "alone"
                fd = os.open(place, os.O_CREAT | os.O_EXCL | os.O_WRONLY)
                time.sleep(0.02)
                os.close(fd)
                os.unlink(place)
            break
        except ChestBusyError:
            time.sleep(random.random() / 20)
    else:
        sys.exit(7)
"""
    env = {**os.environ, lease.LENGTH: SHORT}
    crowd = [
        subprocess.Popen(
            [sys.executable, "-c", script, str(mounts[number % 2] / "dune-chest"), f"c{number}"],
            env=env,
            stderr=subprocess.PIPE,
            text=True,
        )
        for number in range(8)
    ]
    said = [one.communicate(timeout=120)[1] for one in crowd]
    assert [one.returncode for one in crowd] == [0] * len(crowd), said


def test_what_is_no_lease_and_a_link_in_its_place_are_not_believed(mounts: tuple[Path, Path], tmp_path: Path) -> None:
    folder = dunechest.Chest.create(mounts[0], "office").folder
    target = tmp_path / "precious"
    target.write_text("keep")
    (folder / lease.NAME).symlink_to(target)
    with pytest.raises(dunechest.CutOffError), locked(folder, "one"):
        pass
    assert target.read_text() == "keep" and (folder / lease.NAME).is_symlink()


@pytest.mark.parametrize(
    ("text", "seconds"), [("", 90.0), ("7", 7.0), ("0", 2.0), ("1e9", 3600.0), ("nan", 90.0), ("x", 90.0)]
)
def test_the_length_of_a_lease_can_be_set_within_bounds(
    text: str, seconds: float, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv(lease.LENGTH, text)
    assert lease.length() == seconds
