"""What all tests share: a computer of their own, a sample world, nasty trees, and ways to compare."""

from __future__ import annotations

import io
import os
import random
import subprocess
import sys
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, settings

import dunechest
from dunechest.demo import photos
from dunechest.demo.world import World, make_world
from tests.support import not_here
from tests.support.runs import Command, Ran

pytest_plugins = ["tests.support.fixtures"]


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Leave out what another system than Linux cannot run."""
    for item in items:
        if why := not_here.why_not(item):
            item.add_marker(pytest.mark.skip(reason=why))


if sys.platform == "win32":
    not_here.take_away()

    def _run() -> Iterator[None]:
        try:
            return (yield)
        except Exception as error:
            if why := not_here.needs_posix(error):
                pytest.skip(why)
            raise

    @pytest.hookimpl(wrapper=True)
    def pytest_runtest_setup(item: pytest.Item) -> Iterator[None]:
        return (yield from _run())

    @pytest.hookimpl(wrapper=True)
    def pytest_runtest_call(item: pytest.Item) -> Iterator[None]:
        return (yield from _run())


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


class _Painted:
    """A picture of the sample world whose files are made once."""

    def __init__(self, picture: Any) -> None:
        self._picture = picture
        self._small: dict[tuple[int, int], _Painted] = {}
        self._files: dict[tuple[str, int], bytes] = {}

    def resize(self, size: tuple[int, int]) -> _Painted:
        if size not in self._small:
            self._small[size] = _Painted(self._picture.resize(size))
        return self._small[size]

    def save(self, place: Path, kind: str, *, quality: int) -> None:
        if (kind, quality) not in self._files:
            file = io.BytesIO()
            self._picture.save(file, kind, quality=quality)
            self._files[kind, quality] = file.getvalue()
        place.write_bytes(self._files[kind, quality])


@pytest.fixture(scope="session", autouse=True)
def painted() -> Iterator[dict[object, object]]:
    """Paint each picture of the sample world once: that is most of what making a world takes. What is painted is kept here."""
    paint = photos._paint
    done: dict[Any, Any] = {}

    def once(rng: random.Random) -> _Painted:
        before = rng.getstate()
        if before not in done:
            done[before] = _Painted(paint(rng)), rng.getstate()
        picture, after = done[before]
        rng.setstate(after)
        return picture

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(photos, "_paint", once)
        yield done


@pytest.fixture(autouse=True)
def own_machine(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    """Give each test a ledger and a home of its own."""
    home = tmp_path / "home"
    home.mkdir()
    monkeypatch.setenv("HOME", str(home))
    monkeypatch.setenv("DUNECHEST_HOME", str(tmp_path / "state"))
    # The computer the tests run on has drives too; only a test that names some searches them.
    monkeypatch.setenv("DUNECHEST_DRIVES", "")
    for name in ("XDG_CONFIG_HOME", "XDG_DATA_HOME", "XDG_PICTURES_DIR"):
        monkeypatch.delenv(name, raising=False)
    # No test gives orders to the scheduler of this computer unless it made one itself.
    monkeypatch.setattr("dunechest.machine.schedulers.usual_scheduler", lambda: None)
    # A test that runs what is due would have its own process give way to all others for good.
    monkeypatch.setattr("dunechest.machine.effort.give_way", lambda: None)
    return home


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
def chests(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> dict[str, dunechest.Chest]:
    """Two chests, on drives of their own that are plugged in."""
    drives = {name: tmp_path / "media" / name for name in ("blue", "sand")}
    for drive in drives.values():
        drive.mkdir(parents=True)
    monkeypatch.setenv("DUNECHEST_DRIVES", os.pathsep.join(map(str, drives.values())))
    return {name: dunechest.create_chest(drive, name) for name, drive in drives.items()}


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
    """Make the rest of a test run as if on a computer of the sample world."""

    def move(machine: str) -> None:
        environment = world.environment(machine)
        for name in ("HOME", "DUNECHEST_HOME", "DUNECHEST_DRIVES"):
            monkeypatch.setenv(name, environment[name])

    return move


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
