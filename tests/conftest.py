"""What all tests share: a machine of their own, a sample world, nasty trees, and ways to compare."""

from __future__ import annotations

import json
import os
import stat
import subprocess
import sys
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, settings

import dunechest
from dunechest.demo.world import World, make_world

settings.register_profile("here", deadline=None, suppress_health_check=list(HealthCheck), max_examples=40)
settings.load_profile("here")


@pytest.fixture(scope="session", autouse=True)
def no_machine_of_anybodys(tmp_path_factory: pytest.TempPathFactory) -> Iterator[None]:
    """Keep what longer-lived fixtures do, too, away from the ledger and home of whoever runs the tests."""
    top = tmp_path_factory.mktemp("machine")
    (top / "home").mkdir()
    with pytest.MonkeyPatch.context() as patch:
        patch.setenv("HOME", str(top / "home"))
        patch.setenv("DUNECHEST_HOME", str(top / "state"))
        patch.setenv("DUNECHEST_DRIVES", "")
        yield


@pytest.fixture(autouse=True)
def own_machine(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """Give each test a ledger and a home of its own."""
    home = tmp_path / "home"
    home.mkdir()
    monkeypatch.setenv("HOME", str(home))
    monkeypatch.setenv("DUNECHEST_HOME", str(tmp_path / "state"))
    # The machine the tests run on has drives too; only a test that names some searches them.
    monkeypatch.setenv("DUNECHEST_DRIVES", "")
    for name in ("XDG_CONFIG_HOME", "XDG_DATA_HOME", "XDG_PICTURES_DIR"):
        monkeypatch.delenv(name, raising=False)
    return home


@dataclass(frozen=True)
class Ran:
    status: int
    out: str
    err: str

    @property
    def json(self) -> Any:
        return json.loads(self.out)


Command = Callable[..., Ran]


@pytest.fixture
def command(capfd: pytest.CaptureFixture[str]) -> Command:
    """Run the command line in this process, and capture what it says."""
    from dunechest.cli.app import run

    def call(*words: str | os.PathLike[str]) -> Ran:
        capfd.readouterr()
        status = run([os.fspath(word) for word in words])
        out, err = capfd.readouterr()
        return Ran(status, out, err)

    return call


@pytest.fixture
def drive(tmp_path: Path) -> Path:
    place = tmp_path / "drive"
    place.mkdir()
    return place


@pytest.fixture
def chest(drive: Path) -> dunechest.Chest:
    return dunechest.Chest.create(drive, "blue")


@pytest.fixture
def library(tmp_path: Path) -> Path:
    """A small plain folder."""
    place = tmp_path / "shed"
    (place / "rafters").mkdir(parents=True)
    (place / "empty").mkdir()
    (place / "rope.txt").write_text("twenty metres\n")
    (place / "rafters" / "oar.txt").write_text("two of them\n")
    (place / "rafters" / "big.bin").write_bytes(bytes(range(256)) * 1000)
    return place


@pytest.fixture(scope="session")
def pristine(tmp_path_factory: pytest.TempPathFactory) -> World:
    """A sample world that no test changes."""
    return make_world(tmp_path_factory.mktemp("world") / "marram-point", size=0.2)


@pytest.fixture
def world(tmp_path: Path) -> World:
    """A sample world for one test."""
    return make_world(tmp_path / "marram-point", size=0.1)


@pytest.fixture
def on_machine(world: World, monkeypatch: pytest.MonkeyPatch) -> Callable[[str], None]:
    """Make the rest of a test run as if on a machine of the sample world."""

    def move(machine: str) -> None:
        environment = world.environment(machine)
        for name in ("HOME", "DUNECHEST_HOME", "DUNECHEST_DRIVES"):
            monkeypatch.setenv(name, environment[name])

    return move


def facts(root: Path, *, times: bool = True) -> dict[bytes, tuple[Any, ...]]:
    """Everything about a tree that must come back: types, bytes, targets, modes, times."""
    found: dict[bytes, tuple[Any, ...]] = {}
    base = os.fsencode(root)

    def note(path: bytes) -> None:
        info = os.lstat(path)
        name = os.path.relpath(path, base)
        when = info.st_mtime_ns if times else 0
        if stat.S_ISLNK(info.st_mode):
            found[name] = ("link", os.readlink(path), when)
        elif stat.S_ISDIR(info.st_mode):
            found[name] = ("folder", stat.S_IMODE(info.st_mode), when)
        else:
            with open(path, "rb") as file:
                found[name] = ("file", file.read(), stat.S_IMODE(info.st_mode), when)

    note(base)
    for folder, inner, files in os.walk(base):
        for name in [*inner, *files]:
            note(os.path.join(folder, name))
    return found


def flip(path: Path, at: int | None = None, bit: int = 0x01) -> None:
    """Change one bit of a file, and neither its size nor its time."""
    info = path.stat()
    content = bytearray(path.read_bytes())
    place = len(content) // 2 if at is None else at
    content[place] ^= bit
    path.write_bytes(bytes(content))
    os.utime(path, ns=(info.st_atime_ns, info.st_mtime_ns))


def bag_of(chest: dunechest.Chest, name: str) -> Path:
    return chest.folder / "bags" / name


def sha512sum(bag: Path) -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        ["sha512sum", "--quiet", "-c", "manifest-sha512.txt"], cwd=bag, capture_output=True, text=True, check=False
    )


@pytest.fixture
def holder() -> Iterator[Callable[[Path], subprocess.Popen[str]]]:
    """Have another process hold a file open."""
    held: list[subprocess.Popen[str]] = []

    def hold(path: Path) -> subprocess.Popen[str]:
        program = "import sys, time; f = open(sys.argv[1], 'rb'); print('open', flush=True); time.sleep(60)"
        process = subprocess.Popen([sys.executable, "-c", program, str(path)], stdout=subprocess.PIPE, text=True)
        assert process.stdout is not None
        process.stdout.readline()
        held.append(process)
        return process

    yield hold
    for process in held:
        process.kill()
        process.communicate()
