"""From chest to chest: whatever is archived, dropped and copied, each chest has just the editions it should."""

from __future__ import annotations

import os
import random
import shutil
import subprocess
from pathlib import Path

import pytest

import dunechest
from dunechest.chest import pieces
from dunechest.jobs import copy
from dunechest.jobs.study import drive as study
from dunechest.machine.drives import Filesystem, limits_of, with_limits
from tests.support.editions import archive, back
from tests.support.trees import bag_of, facts

#: Names that a drive without capitals and colons cannot tell apart, or hold.
NAMES = ["tern.txt", "Tern.txt", "a: b.txt", "sub/kept.txt", "sub/CON", "Sub/kept.txt", "täg/ø", "täg/%41"]


@pytest.fixture
def chests(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> dict[str, dunechest.Chest]:
    """Three chests; the drive of the second holds no colons and tells no capitals apart."""
    found = {}
    real = study.filesystem

    def narrow(folder: Path) -> Filesystem:
        place = real(folder)
        return with_limits(place, limits_of("exfat")) if "sand" in str(folder) else place

    monkeypatch.setattr(study, "filesystem", narrow)
    monkeypatch.setattr(pieces, "SMALLEST", 60_000)
    for label in ("blue", "sand", "grey"):
        (tmp_path / "drives" / label).mkdir(parents=True)
        found[label] = dunechest.create_chest(tmp_path / "drives" / label, label)
    return found


def change(library: Path, dice: random.Random) -> None:
    """Change a few things: names that collide, a large file that changes a little, moves, what goes."""
    for _ in range(dice.randint(1, 4)):
        path = library / dice.choice(NAMES)
        other = library / dice.choice(NAMES)
        match dice.randint(0, 3):
            case 0 | 1:
                path.parent.mkdir(parents=True, exist_ok=True)
                path.write_bytes(dice.randbytes(dice.randint(0, 3000)))
            case 2:
                path.unlink(missing_ok=True)
            case 3 if path.exists():
                other.parent.mkdir(parents=True, exist_ok=True)
                path.rename(other)
    large = library / "large.bin"
    content = bytearray(large.read_bytes()) if large.exists() else bytearray(dice.randbytes(150_000))
    at = dice.randrange(len(content) - 50)
    content[at : at + dice.randint(1, 20)] = dice.randbytes(dice.randint(1, 30))
    if dice.random() < 0.8:
        large.write_bytes(content)


@pytest.mark.slow
@pytest.mark.parametrize("seed", range(3))
def test_a_model_of_what_each_chest_has(seed: int, chests: dict[str, dunechest.Chest], tmp_path: Path) -> None:
    dice = random.Random(seed)
    library = tmp_path / "shed"
    library.mkdir()
    states: dict[int, object] = {}
    has: dict[str, set[int]] = {label: set() for label in chests}
    for _ in range(14):
        match dice.randint(0, 5):
            case 0 | 1 | 2:
                if len(has["blue"]) and max(has["blue"]) != max(states):
                    continue
                change(library, dice)
                edition = archive(library, chests["blue"]).edition
                states[edition] = facts(library)
                has["blue"].add(edition)
            case 3:
                label = dice.choice([label for label in has if len(has[label]) > 1] or [""])
                if label:
                    kept = dice.randint(1, len(has[label]))
                    plan = dunechest.plan_drop(chests[label], "shed", f"the last {kept}")
                    dunechest.carry_out(plan)
                    has[label] -= set(plan.dropped_editions)
            case _:
                source, target = dice.sample(sorted(chests), 2)
                if not has[source]:
                    continue
                (result,) = copy.copy_chest(chests[source], chests[target])
                newest = max(has[target], default=0)
                if newest <= max(has[source]):
                    has[target] |= {n for n in has[source] if n > newest}
                    assert result.ok, result
                else:
                    assert result.state == "newer"
        for label, chest in chests.items():
            if not has[label]:
                continue
            assert dunechest.verify(chest).ok, label
            listed = dunechest.list_editions(chest, "shed")
            assert {item.edition for item in listed.editions} == has[label], label
    for label, chest in chests.items():
        for number in sorted(has[label]):
            assert back(chest, "shed", number, tmp_path / "back") == states[number], (label, number)


def test_there_and_back_is_the_same_byte_for_byte(
    chests: dict[str, dunechest.Chest], nasty: Path, tmp_path: Path
) -> None:
    archive(nasty, chests["blue"])
    (nasty / "later: this").write_text("x")
    archive(nasty, chests["blue"])
    (over,) = copy.copy_chest(chests["blue"], chests["sand"])
    assert over.ok
    assert over.editions == (1, 2)
    assert copy.copy_chest(chests["sand"], chests["grey"])[0].ok
    ours, theirs = bag_of(chests["blue"], "nasty-tree"), bag_of(chests["grey"], "nasty-tree")
    assert facts(ours).keys() == facts(theirs).keys()
    assert subprocess.run(["diff", "-r", ours, theirs], check=False).returncode == 0
    assert any("~" in name for name in os.listdir(bag_of(chests["sand"], "nasty-tree") / "data" / "library"))


@pytest.mark.mounted
def test_a_real_drive_of_another_filesystem(mounted: Path, nasty: Path, tmp_path: Path) -> None:
    (tmp_path / "blue").mkdir()
    blue, sand = dunechest.create_chest(tmp_path / "blue", "blue"), dunechest.create_chest(mounted, "sand")
    first = facts(nasty)
    archive(nasty, blue)
    assert copy.copy_chest(blue, sand)[0].ok
    (nasty / "later: this").write_text("x")
    shutil.rmtree(nasty / "folder", ignore_errors=True)
    second = facts(nasty)
    archive(nasty, blue)
    (again,) = copy.copy_chest(blue, sand)
    assert again.ok
    assert again.copied_count == 1, "only what is new"
    assert dunechest.verify(sand).ok
    assert back(sand, "nasty-tree", 1, tmp_path / "back") == first
    assert back(sand, "nasty-tree", 2, tmp_path / "back") == second
