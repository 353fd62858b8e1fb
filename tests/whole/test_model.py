"""One truth: random changes, archives, kills, thinning, damage, verifications and restores against a plain dictionary."""

from __future__ import annotations

import os
import shutil
import tempfile
from pathlib import Path

import pytest
from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import Bundle, RuleBasedStateMachine, consumes, invariant, rule

import dunechest
from dunechest.jobs.editions.doing import carry_out
from dunechest.jobs.editions.planning import plan_drop
from tests.support.power import PowerCut, Recorder
from tests.support.trees import flip

NAMES = st.sampled_from(["a", "b%", "c\nd", "\u00e9", "e\u0301", "-x", "f\udcff", "A", " g"])
PATHS = st.lists(NAMES, min_size=1, max_size=3).map("/".join)

Tree = dict[str, bytes | str | None]


class Chests(RuleBasedStateMachine):
    """`now` is the library intact; `kept` is what each edition of each bag should give back."""

    bags = Bundle("bags")

    def __init__(self) -> None:
        super().__init__()
        self.top = Path(tempfile.mkdtemp())
        self.library = self.top / "library"
        self.library.mkdir()
        (self.top / "drive").mkdir()
        self.chest = dunechest.Chest.create(self.top / "drive", "model")
        self.now: Tree = {}
        self.kept: dict[str, dict[int, Tree]] = {}
        self.damaged: dict[str, set[str]] = {}
        self.lost: set[str] = set()
        self.count = 0

    def teardown(self) -> None:
        shutil.rmtree(self.top)

    def _free(self, path: str) -> bool:
        """Whether something can be put at a path: nothing is there, and only folders are above."""
        pieces = path.split("/")
        above = ["/".join(pieces[:n]) for n in range(1, len(pieces))]
        return path not in self.now and all(self.now.get(p, None) is None for p in above)

    def _note(self, path: str, value: bytes | str | None) -> None:
        pieces = path.split("/")
        for n in range(1, len(pieces)):
            self.now.setdefault("/".join(pieces[:n]), None)
        self.now[path] = value

    @rule(path=PATHS, content=st.binary(max_size=50) | st.just(b"z" * 70_000))
    def write(self, path: str, content: bytes) -> None:
        if self._free(path) or isinstance(self.now.get(path), bytes):
            place = self.library / path
            place.parent.mkdir(parents=True, exist_ok=True)
            place.write_bytes(content)
            self._note(path, content)

    @rule(path=PATHS)
    def make_folder(self, path: str) -> None:
        if self._free(path):
            (self.library / path).mkdir(parents=True)
            self._note(path, None)

    @rule(path=PATHS, goal=NAMES)
    def link(self, path: str, goal: str) -> None:
        if self._free(path):
            place = self.library / path
            place.parent.mkdir(parents=True, exist_ok=True)
            place.symlink_to(goal)
            self._note(path, goal)

    @rule(path=PATHS)
    def remove(self, path: str) -> None:
        if path not in self.now:
            return
        place = self.library / path
        if self.now[path] is None:
            shutil.rmtree(place)
        else:
            place.unlink()
        self.now = {p: v for p, v in self.now.items() if p != path and not p.startswith(path + "/")}

    @rule(target=bags)
    def archive(self) -> str:
        self.count += 1
        name = f"bag-{self.count}"
        (account,) = dunechest.archive([self.library], self.chest, dunechest.ArchiveOptions(name=name))
        assert account.ok
        assert account.archived_count == sum(isinstance(v, bytes) for v in self.now.values())
        self.kept[name] = {1: dict(self.now)}
        self.damaged[name] = set()
        self.lost.discard(name)
        return name

    def _current(self, bag: str) -> int:
        return max(self.kept[bag])

    @rule(bag=bags, reread=st.booleans())
    def archive_again(self, bag: str, reread: bool) -> None:
        """Nothing has changed, or there is a next edition; the earlier ones stay."""
        current = self._current(bag)
        (account,) = dunechest.archive(
            [self.library], self.chest, dunechest.ArchiveOptions(name=bag, read_all=reread, ignore=("mass-change",))
        )
        assert account.ok
        if self.kept[bag][current] == self.now and account.state == "unchanged":
            assert account.edition == current
        else:
            assert account.edition == current + 1
            self.kept[bag][current + 1] = dict(self.now)
            self._follow_damage(bag, current)

    def _follow_damage(self, bag: str, last: int) -> None:
        """What was damaged in the bag is where the next edition has put it, or still in its place."""
        if not self.damaged[bag]:
            return
        found = dunechest.verify(self.chest, [bag]).libraries[0]
        now = {s.path for s in found.problems if s.state == "changed"}
        assert len(now) == len(self.damaged[bag]), "damage neither heals nor spreads"
        self.damaged[bag] = now

    @rule(bag=bags, number=st.integers(0, 60), gone=st.booleans())
    def kill(self, bag: str, number: int, gone: bool) -> None:
        """The process is killed at some operation; whoever opens the chest next finds the old edition or the new one."""
        if self.damaged[bag]:
            return
        current = self._current(bag)
        recorder = Recorder(
            self.top / "drive", fail=lambda at: PowerCut() if at == number or (gone and at > number) else None
        )
        with recorder.watching():
            try:
                dunechest.archive(
                    [self.library], self.chest, dunechest.ArchiveOptions(name=bag, ignore=("mass-change",))
                )
            except (PowerCut, dunechest.DuneChestError):
                pass
        self.chest = dunechest.Chest.open(self.top / "drive")
        record = self.chest.bag(bag).library
        assert record is not None
        assert record.edition in (current, current + 1)
        if record.edition > current:
            self.kept[bag][current + 1] = dict(self.now)

    @rule(bag=bags, last=st.integers(1, 3))
    def thin(self, bag: str, last: int) -> None:
        if self.damaged[bag]:
            return
        plan = plan_drop(self.chest, bag, f"the last {last}")
        try:
            carry_out(plan)
        except dunechest.RefusedError:  # an archive was interrupted in it
            assert (self.chest.folder / "bags" / bag / "dune" / "pending").exists()
            return
        assert set(plan.kept_editions) <= set(self.kept[bag])
        assert len(plan.kept_editions) >= min(last, len(self.kept[bag]))
        self.kept[bag] = {number: tree for number, tree in self.kept[bag].items() if number in plan.kept_editions}

    @rule(bag=bags, number=st.integers(0, 1000))
    def damage(self, bag: str, number: int) -> None:
        files = sorted(p for p in (self.chest.folder / "bags" / bag / "data").rglob("*") if p.is_file())
        files = [f for f in files if f.stat().st_size]
        if files:
            victim = files[number % len(files)]
            name = victim.relative_to(self.chest.folder / "bags" / bag).as_posix()
            if name not in self.damaged[bag]:
                flip(victim)
                self.damaged[bag].add(name)

    @rule(bag=consumes(bags))
    def lose(self, bag: str) -> None:
        shutil.rmtree(self.chest.folder / "bags" / bag)
        del self.kept[bag], self.damaged[bag]
        self.lost.add(bag)

    @rule()
    def reopen(self) -> None:
        self.chest = dunechest.Chest.open(self.top / "drive")

    @rule(bag=bags, which=st.integers(0, 5))
    def restore(self, bag: str, which: int) -> None:
        numbers = sorted(self.kept[bag])
        number = numbers[which % len(numbers)]
        place = self.top / "back"
        result = dunechest.restore(
            self.chest, bag, dunechest.RestoreOptions(into=str(place), edition=number, outside_links=True)
        )
        found = read(place)
        wanted = self.kept[bag][number]
        missing = {path for path in wanted if path not in found}
        assert result.ok == (not missing)
        if number == max(numbers):
            assert len(missing) == sum(path.startswith("data/") for path in self.damaged[bag])
        assert len(missing) <= 0 or self.damaged[bag]
        assert all(isinstance(wanted[path], bytes) for path in missing)
        assert found == {path: value for path, value in wanted.items() if path not in missing}
        shutil.rmtree(place)

    @invariant()
    def verification_tells_the_truth(self) -> None:
        found = {
            check.name: {s.path for s in check.problems if s.state == "changed"}
            for check in dunechest.verify(self.chest).libraries
            if check.kind != "missing"
        }
        missing = {check.name for check in dunechest.verify(self.chest).libraries if check.kind == "missing"}
        assert found == self.damaged
        assert missing == self.lost


def read(place: Path) -> Tree:
    """Read a tree into the form of the model."""
    tree: Tree = {}
    for folder, inner, files in os.walk(place):
        for name in [*inner, *files]:
            path = Path(folder, name)
            key = str(path.relative_to(place))
            tree[key] = os.readlink(path) if path.is_symlink() else None if path.is_dir() else path.read_bytes()
    return tree


Chests.TestCase.settings = settings(max_examples=6, stateful_step_count=14, deadline=None)
TestChests = pytest.mark.slow(Chests.TestCase)
