"""A household at random: archives, copies, harms, mends, checks, drives that are retired; a plain model says what has how many
intact copies, and `status` agrees with it every time."""

from __future__ import annotations

import os
import random
import shutil
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

import pytest

import dunechest
from dunechest import clock
from tests.support.trees import bag_of, flip

LABELS, NAMES = ("blue", "sand", "grey"), ("shed", "cellar")
Content = dict[str, bytes]


def content(folder: Path) -> Content:
    return {path.relative_to(folder).as_posix(): path.read_bytes() for path in folder.rglob("*") if path.is_file()}


@dataclass
class Held:
    """What a chest should have of a library, and what a person knows of it."""

    state: Content
    at: int
    known_bad: bool = False


class Household:
    def __init__(self, top: Path, seed: int) -> None:
        self.rng = random.Random(seed)
        self.drives = {label: top / "media" / label for label in LABELS}
        self.libraries = {name: top / name for name in NAMES}
        for place in (*self.drives.values(), *self.libraries.values()):
            place.mkdir(parents=True)
        os.environ["DUNECHEST_DRIVES"] = os.pathsep.join(map(str, self.drives.values()))
        for label, place in self.drives.items():
            dunechest.create_chest(place, label)
        self.held: dict[tuple[str, str], Held] = {}
        self.retired: set[str] = set()
        self.now = 0
        for name in NAMES:
            for _ in range(4):
                self.change(name)

    def pick(self) -> tuple[str, str]:
        return self.rng.choice(LABELS), self.rng.choice(NAMES)

    def payload(self, label: str, name: str) -> Path:
        return bag_of(self.chest(label), name) / "data" / "library"

    def chest(self, label: str) -> dunechest.Chest:
        return dunechest.Chest.open(self.drives[label])

    def intact(self, label: str, name: str) -> bool:
        """Whether that is so in truth, by the bytes."""
        return content(self.payload(label, name)) == self.held[label, name].state

    # What people do.

    def change(self, name: str | None = None) -> None:
        library = self.libraries[name or self.rng.choice(NAMES)]
        path = library / f"file {self.rng.randrange(9)}"
        path.write_bytes(self.rng.randbytes(3000))

    def archive(self) -> None:
        label, name = self.pick()
        if (label, name) in self.held and not self.intact(label, name):
            return
        (result,) = dunechest.archive(
            self.libraries[name], self.chest(label), dunechest.ArchiveOptions(ignore="mass-change")
        )
        assert result.ok
        if result.state != "unchanged":
            self.held[label, name] = Held(content(self.libraries[name]), self.now)

    def copy(self) -> None:
        (label, name), other = self.pick(), self.rng.choice(LABELS)
        own, theirs = self.held.get((label, name)), self.held.get((other, name))
        if other == label or own is None or not self.intact(label, name):
            return
        if theirs is not None and not self.intact(other, name):
            return
        try:
            (result,) = dunechest.copy_chest(self.chest(label), self.chest(other), name)
        except dunechest.RefusedError:
            assert theirs is not None, "an empty chest takes any library"
            assert self.intact(other, name)
            return
        assert result.ok
        if theirs is None or theirs.at < own.at:
            self.held[other, name] = Held(own.state, own.at)
        assert self.intact(other, name)

    def harm(self) -> None:
        label, name = self.pick()
        if (label, name) in self.held:
            victims = [path for path in sorted(self.payload(label, name).iterdir()) if path.is_file()]
            if victims:
                path = self.rng.choice(victims)
                path.unlink() if self.rng.random() < 0.4 else flip(path)

    def verify(self) -> None:
        label = self.rng.choice(LABELS)
        checked = dunechest.verify(self.chest(label))
        for (own, name), held in self.held.items():
            if own == label:
                held.known_bad = not self.intact(label, name)
        assert checked.ok == all(not h.known_bad for (own, _), h in self.held.items() if own == label)

    def mend(self) -> None:
        label, name = self.pick()
        held = self.held.get((label, name))
        if held is None:
            return
        others = [other for other in LABELS if other != label and (other, name) in self.held]
        able = any(self.held[o, name].state == held.state and self.intact(o, name) for o in others)
        before = content(self.payload(label, name))
        helpers = [self.chest(other) for other in others]
        if not helpers:
            return
        (result,) = dunechest.mend(self.chest(label), name, helpers=helpers)
        assert result.ok == self.intact(label, name)
        assert result.ok or not able, "an intact copy of the same state mends everything"
        after = content(self.payload(label, name))
        for path, there in before.items():
            assert after[path] in (there, held.state.get(path)), "a file becomes what it was, or stays as it is"
        held.known_bad = not result.ok

    def retire(self) -> None:
        label = self.rng.choice(LABELS)
        undo = label in self.retired
        dunechest.retire_chest(label, undo=undo)
        (self.retired.discard if undo else self.retired.add)(label)

    # What they are told.

    def agrees(self) -> None:
        told = {library.name: library for library in dunechest.status().libraries}
        for name in NAMES:
            own = {label: held for (label, n), held in self.held.items() if n == name and label not in self.retired}
            assert (name in told) == bool(own)
            if not own:
                continue
            # The library has the state that was archived last, though the only chest that has it may be retired.
            every = [held for (_, n), held in self.held.items() if n == name]
            newest = max(every, key=lambda held: held.at).state
            wanted = {}
            for label, held in own.items():
                wanted[label] = "damaged" if held.known_bad else "safe" if held.state == newest else "behind"
            assert {copy.label: copy.state for copy in told[name].copies} == wanted
            assert told[name].good_copy_count == sum(state == "safe" for state in wanted.values())
            assert told[name].safe == (told[name].good_copy_count >= 2)


@pytest.fixture
def household(request: pytest.FixtureRequest, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Household]:
    monkeypatch.setenv("DUNECHEST_DRIVES", "")  # so that it is as before afterwards
    household = Household(tmp_path, request.param)
    begun = clock.now()
    monkeypatch.setattr(clock, "now", lambda: begun + 60.0 * household.now)  # records tell moments to the second
    yield household


@pytest.mark.slow
@pytest.mark.parametrize("household", range(2), indirect=True)
def test_status_agrees_with_what_has_how_many_intact_copies(household: Household, tmp_path: Path) -> None:
    acts = {
        household.change: 3, household.archive: 5, household.copy: 4, household.harm: 3, household.verify: 3,
        household.mend: 4, household.retire: 1,
    }  # fmt: skip
    for household.now in range(1, 40):
        (act,) = household.rng.choices(list(acts), list(acts.values()))
        act()
        household.agrees()
    for label in LABELS:
        if label in household.retired:
            dunechest.retire_chest(label, undo=True)
    household.retired.clear()
    for (label, name), held in household.held.items():
        dunechest.verify(household.chest(label), name)
        held.known_bad = not household.intact(label, name)
    household.agrees()
    # Whatever is said to be safe comes back.
    for library in dunechest.status().libraries:
        for copy in library.good:
            back = tmp_path / "back"
            dunechest.restore(household.chest(copy.label), copy.archived_as, dunechest.RestoreOptions(into=str(back)))
            assert content(back) == household.held[copy.label, copy.archived_as].state
            shutil.rmtree(back)
