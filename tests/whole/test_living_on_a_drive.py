"""Libraries live on drives: mounted ones that are unplugged, in every order of steps, and stopped at any moment."""

from __future__ import annotations

import json
import os
import random
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

import pytest

import dunechest
from dunechest.cli.app import run
from dunechest.demo.world import World
from tests.support import home_sweep
from tests.support.fixtures import Image
from tests.support.homes import libraries_of, opens, same_files
from tests.support.open_libraries import notes
from tests.support.trees import facts

Move = Callable[[str], None]


@pytest.mark.mounted
def test_all_eight_live_on_a_mounted_drive_and_come_back(
    image: Image, world: World, on_machine: Move, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    """Moved, used, unplugged, plugged in elsewhere, found again, and back as they were."""
    on_machine("office-pc")
    other = tmp_path / "mounted elsewhere"
    monkeypatch.setenv("DUNECHEST_DRIVES", os.pathsep.join(map(str, (image.place, other, world.blue))))
    drive, home = image.plug(), world.office_home
    shows, before = {}, {}
    for name, place in libraries_of(world).items():
        shows[name] = opens(name, home)
        before[name] = facts(place)
        moved = dunechest.rehome(place, drive, dunechest.RehomeOptions(name=f"{name} library"))
        assert moved.way == "setting"
        assert opens(name, home) == shows[name], name
        assert dunechest.reclaim(moved.set_aside_path or place)[0].deleted_count == moved.file_count - (
            3 if name == "saltpan" else 0
        )
    (drive / "glasswort library" / "written meanwhile.txt").write_text("kree-ar")
    own = home / "rope notes"
    own.mkdir()
    notes(own)
    before["notes"] = facts(own)
    assert dunechest.rehome(own, drive).way == "link"
    image.unplug()
    assert [home.connected for home in dunechest.places.list_homes()] == [False] * 9
    own.unlink()
    own.mkdir()
    (own / "0.md").write_text("# another one, made without the drive\n")
    assert opens("cuttlebone", home) == ({"titles": 0}, 0), "it makes a new one where the drive used to be"
    found = [item.second.path for item in dunechest.places.list_homes() if item.second is not None]
    assert sorted(found) == sorted([own, drive / "cuttlebone library"])
    (drive / "cuttlebone library" / "titles" / "made meanwhile").write_text("kree-ar")
    image.plug(other)
    for item in dunechest.places.list_homes():
        assert item.connected and item.strayed
        dunechest.rejoin(item.old_path)
    for name, place in libraries_of(world).items():
        assert opens(name, home) == shows[name], name
        dunechest.rehome_back(place)
        assert opens(name, home) == shows[name], name
    assert (world.photos / "written meanwhile.txt").read_text() == "kree-ar"
    assert (world.games / "titles" / "made meanwhile").read_text() == "kree-ar"
    dunechest.rehome_back(own)
    (another,) = [path for path in own.iterdir() if path.name.encode() not in before["notes"]]
    assert another.read_text().startswith("# another one")
    another.unlink()
    assert same_files(own, before["notes"])
    (world.photos / "written meanwhile.txt").unlink()
    (world.games / "titles" / "made meanwhile").unlink()
    for name, place in libraries_of(world).items():
        assert same_files(place, before[name], but=".glw"), name
    image.unplug()


@dataclass
class Owned:
    """A library and what its person wrote into it, as a plain model has it."""

    name: str
    old: Path
    setting: Path | None
    texts: set[str] = field(default_factory=set)

    def seen(self) -> Path:
        """Where the application looks for it."""
        if self.setting is None:
            return self.old
        return Path(json.loads(self.setting.read_text())["library"])


KIND = """
format = 1
name = "ropes"
title = "Rope book"
about = "A page for each rope."
application = "Ropebook"

[places]
linux = ["{home}/*"]

[[signs]]
path = "rope.book"
begins = "ropes"

[[settings]]
file = "{configuration}/ropebook/settings.json"
key = "library"
"""


class Household:
    """A home, two drives, two libraries, and steps in any order."""

    def __init__(self, top: Path, seed: int) -> None:
        self.top, self.rng, self.count = top, random.Random(seed), 0
        for name in ("home/.config/ropebook", "state/kinds", "media/sand", "media/shell"):
            (top / name).mkdir(parents=True)
        (top / "state/kinds/ropes.toml").write_text(KIND)
        setting = top / "home/.config/ropebook/settings.json"
        setting.write_text(json.dumps({"library": str(top / "home/ropes")}))
        self.libraries = [
            Owned("letters", top / "home/letters", None),
            Owned("ropes", top / "home/ropes", setting),
        ]
        self.log: list[str] = []
        for owned in self.libraries:
            self.work(owned)
            self.work(owned)

    def work(self, owned: Owned) -> None:
        """The person writes; an application that does not find its library makes a new, empty one."""
        place = owned.seen()
        if not place.is_dir():
            if place.is_symlink():
                if self.rng.random() < 0.5:
                    return  # it only says that it cannot open it
                place.unlink()  # it replaces what it cannot read
            place.mkdir(parents=True)
        if owned.setting is not None and not (place / "rope.book").exists():
            (place / "rope.book").write_text("ropes\n")
        self.count += 1
        name = self.rng.choice(["a.txt", "b.txt", "deep/c.txt", f"{self.count}.txt"])
        text = f"{owned.name} {self.count}"
        (place / name).parent.mkdir(exist_ok=True)
        if (place / name).exists():
            owned.texts.discard((place / name).read_text())
        (place / name).write_text(text)
        owned.texts.add(text)

    def unplug(self, drive: str) -> None:
        place = self.top / "media" / drive
        drawer = self.top / f"{drive} in a drawer"
        mounted = place if (place / ".drive").exists() else self.top / "media" / f"{drive}1"
        if (mounted / ".drive").exists():
            mounted.rename(drawer)
            if self.rng.random() < 0.5:
                place.mkdir(exist_ok=True)  # its mount point stays

    def plug(self, drive: str) -> None:
        drawer, place = self.top / f"{drive} in a drawer", self.top / "media" / drive
        if not drawer.exists():
            return
        if place.is_dir() and any(place.iterdir()):
            place = self.top / "media" / f"{drive}1"  # the system mounts it elsewhere: something is there
        elif place.is_dir():
            place.rmdir()
        if place.is_dir() and not any(place.iterdir()):
            place.rmdir()
        if not place.exists():
            drawer.rename(place)

    def command(self, *words: str | os.PathLike[str]) -> int:
        status = run([*(os.fspath(word) for word in words), "--quiet"])
        assert status in (0, 2, 3, 4), (words, status, self.log)
        return status

    def step(self) -> None:
        rng, owned = self.rng, self.rng.choice(self.libraries)
        drive = rng.choice(["sand", "shell"])
        what = rng.choice(["work"] * 3 + ["unplug", "plug", "plug", "rehome", "rehome", "back", "rejoin", "rejoin"])
        if rng.random() < 0.15:
            what = rng.choice(["undo", "reclaim", "errand", "status"])
        self.log.append(f"{what} {owned.name} {drive}")
        if what == "work":
            self.work(owned)
        elif what == "unplug":
            self.unplug(drive)
        elif what == "plug":
            self.plug(drive)
        elif what in ("rehome", "errand"):
            more = ["--reclaim", "--yes"] if what == "errand" else []
            places = [p for p in (self.top / "media").glob(f"{drive}*") if (p / ".drive").exists()]
            if places:
                self.command("rehome", rng.choice([owned.old, owned.seen()]), "--to", places[0], *more)
        elif what == "back":
            self.command("rehome", "--back", owned.old)
        elif what == "rejoin":
            self.command("rehome", "--rejoin", owned.old)
        elif what == "undo":
            self.command("undo", "--yes")
        elif what == "reclaim":
            self.command("reclaim", owned.old, "--yes")
        else:
            dunechest.status(), dunechest.find_libraries([self.top / "home"])

    def written(self) -> set[str]:
        """All texts that are anywhere, drawers included."""
        found = set()
        for folder, _, files in os.walk(self.top):
            if "state" not in Path(folder).relative_to(self.top).parts[:1]:
                found |= {Path(folder, name).read_text() for name in files if name.endswith(".txt")}
        return found

    def check(self) -> None:
        """Nothing that was written is lost; what is in one library alone is what its application shows."""
        everything = self.written()
        homes = {str(home.old_path): home for home in dunechest.places.list_homes()}
        for owned in self.libraries:
            assert owned.texts <= everything, (owned.texts - everything, self.log)
            home = homes.get(str(owned.old))
            whole = home is None or (home.connected and home.second is None and not home.strayed)
            if whole and not self.elsewhere(owned):
                shown = {path.read_text() for path in owned.seen().rglob("*.txt")}
                assert owned.texts <= shown, (owned.name, owned.texts - shown, self.log)

    def elsewhere(self, owned: Owned) -> bool:
        """Whether undo gave the application a library again of which it has made a second one meanwhile."""
        asides = [path for path in self.top.rglob("*(set aside *") if path.is_dir()]
        return not owned.seen().is_dir() or any(owned.texts & self._texts(path) for path in asides)

    @staticmethod
    def _texts(folder: Path) -> set[str]:
        return {path.read_text() for path in folder.rglob("*.txt")}

    def end(self) -> None:
        """Everything is plugged in and rejoined: each application shows all that was written into its library."""
        for drive in ("sand", "shell"):
            self.plug(drive)
        for owned in self.libraries:
            homes = [home for home in dunechest.places.list_homes() if home.old_path == owned.old]
            if homes:
                assert self.command("rehome", "--rejoin", owned.old) == 0, self.log
            shown = self._texts(owned.seen())
            missing = owned.texts - shown
            asides = {text for path in self.top.rglob("*(set aside *") if path.is_dir() for text in self._texts(path)}
            assert missing <= asides, (missing, self.log)
            if homes:
                assert self.command("rehome", "--back", owned.old) == 0, self.log
                assert owned.old.is_dir() and not owned.old.is_symlink()
                assert self._texts(owned.seen()) >= shown


def household(top: Path, seed: int, steps: int, patch: pytest.MonkeyPatch) -> None:
    top.mkdir(parents=True)
    drives = os.pathsep.join(str(top / "media" / name) for name in ("sand", "sand1", "shell", "shell1"))
    for name, value in {"HOME": top / "home", "DUNECHEST_HOME": top / "state", "DUNECHEST_DRIVES": drives}.items():
        patch.setenv(name, str(value))
    house = Household(top, seed)
    for drive in ("sand", "shell"):
        (top / "media" / drive / ".drive").touch()
    for _ in range(steps):
        house.step()
        house.check()
    house.end()


@pytest.mark.parametrize("seed", range(3))
def test_any_order_of_steps_loses_nothing(seed: int, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    household(tmp_path / "household", seed, 30, monkeypatch)


@pytest.mark.parametrize("name", sorted(home_sweep.JOBS))
def test_a_command_that_is_stopped_leaves_the_library_whole_and_is_finished(
    name: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Some moments of each, others each time; scripts/fault_sweep.py tries all of them."""
    for variable, value in home_sweep.environment(tmp_path / "stage").items():
        monkeypatch.setenv(variable, value)
    job, offset, how = home_sweep.JOBS[name], random.randrange(50), random.choice(["kill", "refuse"])
    outcome = home_sweep.sweep(job, tmp_path / "stage", how=how, some=1, offset=offset)
    assert outcome.tried == 1 and outcome.losses == [], (how, offset)
