"""What counts as a copy: on which disk it lies; and what is not protected at all."""

from __future__ import annotations

import os
import shutil
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest

import dunechest
from dunechest.machine import physical as lies
from dunechest.machine.physical import Physical
from tests.support.runs import Command


@pytest.fixture
def drives(tmp_path: Path, monkeypatch: pytest.MonkeyPatch, command: Command) -> dict[str, Path]:
    """Three drives with a chest on each; what each lies on is what a test says."""
    found = {label: tmp_path / label for label in ("red", "blue", "sand")}
    for label, place in found.items():
        place.mkdir()
        monkeypatch.setenv("DUNECHEST_DRIVES", os.pathsep.join(str(item) for item in found.values()))
        command("chest", "new", place, "--label", label)
    return found


def lie(monkeypatch: pytest.MonkeyPatch, told: dict[Path, Physical]) -> None:
    """Have folders lie on the disks that are told."""

    def physical(folder: Path) -> Physical:
        nothing = Physical(frozenset(), frozenset(), "")
        return next((on for place, on in told.items() if folder.is_relative_to(place)), nothing)

    for module in (
        "dunechest.jobs.known.holdings",
        "dunechest.jobs.overview.status",
        "dunechest.jobs.move.reclaim.planning.copies",
        "dunechest.jobs.move.reclaim.planning.plan_reclaim",
    ):
        monkeypatch.setattr(f"{module}.physical", physical)


def disk(name: str, weakness: lies.Weakness = "") -> Physical:
    return Physical(frozenset({f"serial-{name}"}), frozenset({name}), weakness)


@pytest.mark.parametrize(
    ("told", "why", "words"),
    [
        (
            {"red": disk("sda"), "blue": disk("sda"), "sand": disk("sdb")},
            "same-drive",
            "on the same drive as another copy",
        ),
        (
            {"red": disk("sdc"), "blue": disk("sda"), "library": disk("sda")},
            "library-disk",
            "the disk that the library itself",
        ),
        ({"red": disk("sdc"), "blue": disk("", "memory")}, "memory", "in this computer's memory"),
        ({"red": disk("sdc"), "blue": disk("", "this-computer")}, "this-computer", "a share of this computer itself"),
    ],
)
def test_a_copy_that_protects_nothing_does_not_count(
    told: dict[str, Physical], why: str, words: str,
    library: Path, drives: dict[str, Path], command: Command, monkeypatch: pytest.MonkeyPatch,
) -> None:  # fmt: skip
    lie(monkeypatch, {(library if name == "library" else drives[name]): on for name, on in told.items()})
    command("archive", library, "--to", "red", "--to", "blue")
    ran = command("status")
    assert ran.status == 1 and words in ran.out
    (item,) = command("status", "--json").json["libraries"]
    reasons = {copy["label"]: copy["not_counted_because"] for copy in item["copies"]}
    assert sorted(reasons.values()) == sorted(["", why])
    assert f"-> dunechest archive {library} --to sand" in ran.out, "the one on another disk is proposed"
    ran = command("reclaim", library, "--yes")
    assert ran.status == 3 and library.exists(), "and it is deleted only where enough copies count"
    command("archive", library, "--to", "sand")
    assert command("status").status == 0


def test_the_disk_is_found_below_images_binds_and_memory(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.delenv("DUNECHEST_DRIVES", raising=False)
    own = lies.physical(tmp_path)
    if Path("/dev/shm").is_dir():
        assert lies.physical(Path("/dev/shm")).weakness == "memory"
    monkeypatch.setenv("DUNECHEST_DRIVES", str(tmp_path))
    assert lies.physical(tmp_path) == Physical(frozenset(), frozenset(), ""), (
        "a folder that is named is a drive by itself"
    )
    monkeypatch.delenv("DUNECHEST_DRIVES")
    if os.geteuid() or not own.names:
        pytest.skip("mounting needs root, and a disk that can be seen")
    image, place, bound = tmp_path / "image", tmp_path / "mounted", tmp_path / "bound"
    with image.open("wb") as file:
        file.truncate(16 << 20)
    for folder in (place, bound):
        folder.mkdir()
    subprocess.run(["mkfs.ext4", "-q", "-F", str(image)], check=True)
    if subprocess.run(["mount", "-o", "loop", str(image), str(place)], check=False, capture_output=True).returncode:
        pytest.skip("nothing can be mounted here")
    try:
        subprocess.run(["mount", "--bind", str(place), str(bound)], check=True)
        assert lies.physical(place) == lies.physical(bound) == own
    finally:
        subprocess.run(["umount", str(bound)], check=False)
        subprocess.run(["umount", str(place)], check=False)


@pytest.fixture
def bound(library: Path, drives: dict[str, Path], tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[Path]:
    """The drive red, seen in another place too."""
    place = tmp_path / "seen again"
    place.mkdir()
    done = subprocess.run(["mount", "--bind", str(drives["red"]), str(place)], check=False, capture_output=True)
    if done.returncode:
        pytest.skip("nothing can be bound to another place here")
    monkeypatch.setenv("DUNECHEST_DRIVES", os.pathsep.join(map(str, (*drives.values(), place))))
    yield place
    subprocess.run(["umount", str(place)], check=False)


def test_a_chest_that_is_seen_in_two_places_is_one(bound: Path, library: Path, command: Command) -> None:
    assert [item.label for item in dunechest.list_chests().chests if item.connected] == ["blue", "red", "sand"]
    assert command("archive", library, "--to", "red").status == 0
    assert "copied by hand" not in command("chest", "list").out


def test_files_in_no_library_are_told_and_can_be_ignored(
    own_machine: Path, drives: dict[str, Path], command: Command
) -> None:
    letters = own_machine / "Documents"
    letters.mkdir(exist_ok=True)
    for number in range(40):
        (letters / f"letter {number}.txt").write_text("dear tern")
    (own_machine / "boat plans").mkdir()
    (own_machine / "boat plans" / "hull.txt").write_text("oak")
    ran = command("find", "--json")
    assert {Path(item["path"]).name: item["file_count"] for item in ran.json["loose_folders"]} == {
        "Documents": 40,
        "boat plans": 1,
    }
    ran = command("status")
    assert ran.status == 1 and "documents  NEVER ARCHIVED" in ran.out
    assert "1 file under your home is in no library" in ran.out
    for label in ("red", "blue"):
        assert command("archive", letters, "--to", label).status == 0
    ran = command("status")
    assert ran.status == 0 and "boat plans" in ran.out
    assert command("find", "--ignore", own_machine / "boat plans").status == 0
    assert "boat plans" not in command("status").out
    assert command("find", "--no-ignore", own_machine / "boat plans").status == 0
    assert "boat plans" in command("status").out
    ran = command("find", "--no-ignore", own_machine / "boat plans")
    assert ran.status == 2 and "was not ignored" in ran.err


def test_a_library_inside_an_archived_one_is_archived(
    own_machine: Path, drives: dict[str, Path], command: Command
) -> None:
    inner = own_machine / "Documents" / "papers.texlib"
    inner.mkdir(parents=True)
    from dunechest.ledger import events

    events.append("seen", place=str(inner), name="papers", kind="k", gone=False)
    assert [item.path for item in dunechest.status().unprotected_libraries] == [str(inner)]
    (inner / "a.txt").write_text("a")
    for label in ("red", "blue"):
        command("archive", own_machine / "Documents", "--to", label)
    assert dunechest.status().unprotected_libraries == () and dunechest.status().safe


def test_libraries_with_equal_content_are_two(own_machine: Path, drives: dict[str, Path], command: Command) -> None:
    for name in ("one", "two"):
        (own_machine / name).mkdir()
        (own_machine / name / "same.txt").write_text("the same")
    command("archive", own_machine / "one", "--to", "red")
    command("archive", own_machine / "two", "--to", "blue")
    told = dunechest.status()
    assert sorted((item.name, item.good_copy_count) for item in told.libraries) == [("one", 1), ("two", 1)]
    shutil.rmtree(own_machine / "one")


def test_a_renamed_library_stays_one(own_machine: Path, drives: dict[str, Path], command: Command) -> None:
    old, new = own_machine / "one", own_machine / "renamed"
    old.mkdir()
    (old / "a.txt").write_text("a")
    command("archive", old, "--to", "red", "--to", "blue")
    old.rename(new)
    (new / "b.txt").write_text("b")
    assert command("archive", new, "--to", "red", "--continue", "one").status == 0
    (item,) = dunechest.status().libraries
    assert (item.path, {copy.label: copy.state for copy in item.copies}) == (
        str(new),
        {"red": "safe", "blue": "behind"},
    )


def test_the_report_says_why_a_copy_does_not_count(
    library: Path, drives: dict[str, Path], tmp_path: Path, command: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    lie(monkeypatch, {drives["blue"]: disk("", "memory")})
    command("archive", library, "--to", "red", "--to", "blue")
    assert command("report", "--write", tmp_path / "page.html").status == 1
    assert "so it does not count" in (tmp_path / "page.html").read_text()
