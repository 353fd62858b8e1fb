"""Follow the advice: whatever happened, what `status` proposes works, gets nearer to safe, and ends; and safe is true."""

from __future__ import annotations

import os
import shlex
import shutil
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from msgspec.structs import replace

import dunechest
from dunechest import clock
from dunechest.jobs.known import chests as known_chests
from dunechest.jobs.study import drive as study_drive
from dunechest.machine import drives
from tests.support.households import computer
from tests.support.runs import Command
from tests.support.trees import flip

DAY = 86_400.0
DRIVES = ("red", "blue", "green")
LIBRARIES = ("notes", "papers")
ACTS = st.lists(
    st.one_of(
        st.tuples(st.just("edit"), st.sampled_from(LIBRARIES)),
        st.tuples(st.just("shrink"), st.sampled_from(LIBRARIES)),
        st.tuples(st.just("rename"), st.sampled_from(LIBRARIES)),
        st.tuples(st.just("archive"), st.sampled_from(LIBRARIES), st.sampled_from(DRIVES)),
        st.tuples(st.just("flip"), st.sampled_from(LIBRARIES), st.sampled_from(DRIVES)),
        st.tuples(st.just("lose bag"), st.sampled_from(LIBRARIES), st.sampled_from(DRIVES)),
        st.tuples(st.just("verify"), st.sampled_from(DRIVES)),
        st.tuples(st.just("unplug"), st.sampled_from(DRIVES)),
        st.tuples(st.just("plug"), st.sampled_from(DRIVES)),
        st.tuples(st.just("retire"), st.sampled_from(DRIVES)),
        st.tuples(st.just("image"), st.sampled_from(DRIVES)),
        st.tuples(st.just("put back"), st.sampled_from(DRIVES)),
        st.tuples(st.just("hall"), st.sampled_from(DRIVES)),
        st.tuples(st.just("encrypt"), st.sampled_from(LIBRARIES)),
        st.tuples(st.just("touch"), st.sampled_from(LIBRARIES)),
        st.tuples(st.just("squat"), st.sampled_from(LIBRARIES), st.sampled_from(DRIVES)),
        st.tuples(st.just("full"), st.sampled_from(DRIVES)),
        st.tuples(st.just("clone"), st.sampled_from(DRIVES)),
        st.tuples(st.just("days"), st.sampled_from((20, 100))),
        st.tuples(
            st.just("lose state"),
        ),
        st.tuples(st.just("wrong clock"), st.sampled_from(LIBRARIES), st.sampled_from(DRIVES)),
    ),
    min_size=2,
    max_size=9,
)


class World:
    """A computer with two libraries, three drives, and another computer."""

    def __init__(self, top: Path, command: Command, patch: pytest.MonkeyPatch) -> None:
        self.top, self.command, self.patch = top, command, patch
        self.now = clock.now()
        patch.setattr(clock, "now", lambda: self.now)
        places = [self.drive(name) for name in DRIVES] + [self.copy(name) for name in DRIVES]
        patch.setenv("DUNECHEST_DRIVES", os.pathsep.join(map(str, places)))
        #: Drives without room, by name.
        self.full: set[str] = set()
        real = drives.filesystem

        def filesystem(path: Path) -> drives.Filesystem:
            found = real(path)
            name = next((name for name in self.full if path.is_relative_to(self.drive(name))), None)
            return found if name is None else replace(found, free=10)

        for module in (drives, known_chests, study_drive):
            patch.setattr(module, "filesystem", filesystem)
        self.places = {}
        with computer(top, "kitchen") as home:
            (home / "papers").mkdir()
            for name in LIBRARIES:
                self.places[name] = home / name
                for number in range(12):
                    (home / name / f"{number}.txt").write_text(f"{name} {number}")
            for name in DRIVES[:2]:
                self.drive(name).mkdir(parents=True)
                command("chest", "new", self.drive(name), "--label", name)
            self.drive("green").mkdir(parents=True)
            command("chest", "new", self.drive("green"), "--label", "green")
            for name in LIBRARIES:
                command("archive", home / name, "--to", "red", "--to", "blue")
        self.edits = 0
        #: Damage that nobody looked at yet: a check may be up to 90 days away.
        self.unseen: dict[tuple[str, str], set[str]] = {}
        self.flipped: dict[tuple[str, str], set[str]] = {}

    def drive(self, name: str) -> Path:
        return self.top / "drives" / name

    def copy(self, name: str) -> Path:
        return self.top / "drives" / f"{name} copy"

    def away(self, name: str) -> Path:
        return self.top / "drives" / f"{name} away"

    def bag(self, library: str, drive: str) -> Path:
        return self.drive(drive) / "dune-chest" / "bags" / library

    def act(self, what: str, *rest: Any) -> None:
        self.now += 60
        getattr(self, "_" + what.replace(" ", "_"))(*rest)

    def _edit(self, library: str) -> None:
        self.edits += 1
        if self.places[library].exists():
            (self.places[library] / f"edit {self.edits}.txt").write_text(f"{self.edits}")

    def _shrink(self, library: str) -> None:
        for path in sorted(self.places[library].glob("*.txt"))[:-1]:
            path.unlink()

    def _encrypt(self, library: str) -> None:
        for path in self.places[library].glob("*.txt"):
            path.write_bytes(os.urandom(40))

    def _touch(self, library: str) -> None:
        for path in self.places[library].glob("*.txt"):
            path.touch()

    def _squat(self, library: str, drive: str) -> None:
        with computer(self.top, "hall") as home:
            (home / "other" / library).mkdir(parents=True, exist_ok=True)
            (home / "other" / library / f"{library}.txt").write_text("the hall's own")
            self.command("archive", home / "other" / library, "--to", drive)

    def _full(self, drive: str) -> None:
        self.full.symmetric_difference_update({drive})

    def _clone(self, drive: str) -> None:
        if self.drive(drive).exists() and not self.copy(drive).exists():
            shutil.copytree(self.drive(drive), self.copy(drive))

    def _rename(self, library: str) -> None:
        new = self.places[library].with_name(f"{library} renamed")
        if self.places[library].exists() and not new.exists():
            self.places[library] = self.places[library].rename(new)

    def _archive(self, library: str, drive: str) -> None:
        self.command("archive", self.places[library], "--to", drive)

    def _flip(self, library: str, drive: str) -> None:
        files = sorted((self.bag(library, drive) / "data" / "library").glob("*.txt"))
        if files:
            flip(files[-1])
            self.unseen.setdefault((drive, library), set()).add(files[-1].name)
            self.flipped.setdefault((drive, library), set()).add(files[-1].name)

    def _lose_bag(self, library: str, drive: str) -> None:
        shutil.rmtree(self.bag(library, drive), ignore_errors=True)

    def _verify(self, drive: str) -> None:
        if self.command("verify", drive).status in (0, 1):
            for library in LIBRARIES:
                self.unseen.pop((drive, library), None)

    def _unplug(self, drive: str) -> None:
        if self.drive(drive).exists():
            self.drive(drive).rename(self.away(drive))

    def _plug(self, drive: str) -> None:
        if self.away(drive).exists():
            self.away(drive).rename(self.drive(drive))

    def _retire(self, drive: str) -> None:
        self.command("chest", "retire", drive)

    def _image(self, drive: str) -> None:
        if self.drive(drive).exists():
            shutil.rmtree(self.top / f"image of {drive}", ignore_errors=True)
            shutil.copytree(self.drive(drive), self.top / f"image of {drive}")

    def _put_back(self, drive: str) -> None:
        image = self.top / f"image of {drive}"
        if image.exists() and self.drive(drive).exists():
            shutil.rmtree(self.drive(drive))
            shutil.copytree(image, self.drive(drive))
            for library in LIBRARIES:  # what was damaged when the image was made is there again
                self.unseen[drive, library] = self.flipped.get((drive, library), set())

    def _hall(self, drive: str) -> None:
        with computer(self.top, "hall") as home:
            (home / "notes" / f"{self.now}.txt").write_text("hall")
            self.command("archive", home / "notes", "--to", drive, "--as", "hall-notes")
            self.command("verify", drive)

    def _days(self, count: int) -> None:
        self.now += count * DAY

    def _lose_state(self) -> None:
        shutil.rmtree(self.top / "kitchen" / "state")
        with computer(self.top, "kitchen"):
            for name in DRIVES:
                if self.drive(name).exists():
                    self.command("chest", "show", self.drive(name))

    def _wrong_clock(self, library: str, drive: str) -> None:
        real = self.now
        for other in (real + 3000 * DAY, real - 9000 * DAY):
            self.now = other
            self._edit(library)
            self._archive(library, drive)
            self._verify(drive)
        self.now = real

    def holds(self, item: dunechest.model.ProtectedLibrary) -> None:
        """Check that each copy that counts has every byte, but for damage that nobody could know of."""
        copies = []
        for copy in item.good:
            if not self.drive(copy.label).exists():
                continue  # what went on there before it was unplugged nobody may have seen
            content = _content(self.drive(copy.label) / "dune-chest" / "bags" / copy.archived_as / "data" / "library")
            copies.append(
                {
                    path: told
                    for path, told in content.items()
                    if path not in self.unseen.get((copy.label, copy.archived_as), ())
                }
            )
        assert len({copy.label for copy in item.good}) >= 2
        for content in copies:
            for other in copies:
                assert all(other.get(path, told) == told for path, told in content.items()), item.copies
                assert {*content} ^ {*other} <= {name for names in self.unseen.values() for name in names}, (
                    item.copies
                )


def _content(folder: Path) -> dict[str, bytes]:
    return {path.relative_to(folder).as_posix(): path.read_bytes() for path in folder.rglob("*") if path.is_file()}


def follow(world: World) -> list[str]:
    """Carry out the first proposal again and again; return all that were."""
    done: list[str] = []
    seen: set[tuple[str, str]] = set()
    for _ in range(25):
        told = dunechest.status()
        command = next((step.command for step in told.steps if step.command), "")
        if not command:
            return done
        states = repr(
            [
                (item.name, item.path, [(c.label, c.archived_as, c.state, c.edition) for c in item.copies])
                for item in told.libraries
            ]
        )
        assert (command, states) not in seen, (
            f"proposed again without effect: {command}; before: {done}; {told.steps}"
        )
        seen.add((command, states))
        ran = world.command(*shlex.split(command)[1:])
        # Damage that nobody looked at yet is met by what reads it.
        well = (0, 1) if shlex.split(command)[1] in ("verify", "mend", "copy") else (0,)
        assert ran.status in well, (command, done, ran.out, ran.err)
        done.append(command)
        world.now += 60
    raise AssertionError(f"it never ends: {done}")


@settings(max_examples=12, suppress_health_check=[HealthCheck.function_scoped_fixture], deadline=None)
@given(ACTS)
def test_the_advice_works_and_ends_in_safe_or_with_a_person(
    tmp_path_factory: pytest.TempPathFactory, command: Command, acts: list[tuple[Any, ...]]
) -> None:
    with pytest.MonkeyPatch.context() as patch:
        top = tmp_path_factory.mktemp("advice")
        world = World(top, command, patch)
        for act in acts:
            with computer(top, "kitchen"):
                world.act(*act)
        with computer(top, "kitchen"):
            follow(world)
            for item in dunechest.status().libraries:
                if item.safe:
                    world.holds(item)
        shutil.rmtree(top)
