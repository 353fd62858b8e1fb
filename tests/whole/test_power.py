"""Interruption: at any operation, at any moment, by any cause; nothing that was in the chest is lost."""

from __future__ import annotations

import os
import random
import shutil
import subprocess
import sys
import time
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

import dunechest
from dunechest import clock
from dunechest.chest import pieces
from dunechest.jobs.check.verify.timed import verify_for
from tests.support.power import Recorder, after_power_cut
from tests.support.runs import Command
from tests.support.sweep import JOBS, Job, changed_library, first_library, full_ledger_sweep, kill_sweep, sweep
from tests.support.trees import bag_of, facts, flip


@pytest.mark.slow
@pytest.mark.parametrize("name", sorted(JOBS))
def test_a_part_of_the_fault_sweep(name: str, tmp_path: Path) -> None:
    """`make faults` tries every operation; here a few."""
    some = 2 if name == "next edition" else 1
    outcome = sweep(JOBS[name], tmp_path / "sweep", some=some, offset=30)
    assert outcome.tried == 5 * some
    assert outcome.losses == []


@pytest.mark.slow
@pytest.mark.parametrize("name", ["dropping"])
def test_a_ledger_that_is_full_at_any_note(name: str, tmp_path: Path) -> None:
    """`make faults` does that with every job."""
    outcome = full_ledger_sweep(JOBS[name], tmp_path / "sweep")
    assert outcome.operations > 0
    assert outcome.losses == []


@pytest.mark.slow
def test_the_sweep_would_see_a_loss(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Without flushing the journal's files before it is written, power cuts lose bytes."""
    from dunechest.transfer import disk

    monkeypatch.setattr(disk, "flush_filesystem", lambda fd: True)
    monkeypatch.setattr(disk, "flush_file", lambda fd: None)
    assert sweep(JOBS["next edition"], tmp_path / "sweep", some=4).losses


def test_what_was_not_flushed_is_dropped_or_torn(tmp_path: Path) -> None:
    before = tmp_path / "before"
    before.mkdir()
    (before / "old").write_text("old")
    noted = [
        ("create", "new"), ("write", "new", b"12345678"), ("flush", "new"), ("write", "new", b"abcdefgh"),
        ("rename", "new", "old"), ("make-folder", "deep"), ("create", "deep/x"), ("write", "deep/x", b"xy"),
    ]  # fmt: skip
    found = {}
    for names, data in (("least", "dropped"), ("most", "dropped"), ("most", "torn")):
        place = tmp_path / f"{names} {data}"
        after_power_cut(before, noted, names, data, place)  # type: ignore[arg-type]
        found[names, data] = {
            p.relative_to(place).as_posix(): p.read_bytes() for p in place.rglob("*") if p.is_file()
        }
    assert found["least", "dropped"] == {"old": b"old"}
    assert found["most", "dropped"] == {"old": b"12345678", "deep/x": b""}
    assert found["most", "torn"] == {"old": b"12345678abcd", "deep/x": b"x"}


@pytest.mark.slow
def test_killed_at_random_moments(tmp_path: Path) -> None:
    """`make faults` kills two hundred."""
    outcome = kill_sweep(tmp_path, 2)
    assert outcome.tried == 2
    assert outcome.losses == []


def test_what_was_proven_before_a_cut_is_not_copied_again(tmp_path: Path, command: Command) -> None:
    stage_library, drive = tmp_path / "library", tmp_path / "drive"
    drive.mkdir()
    stage_library.mkdir()
    (stage_library / "a").write_text("a")
    command("chest", "new", drive, "--label", "cut")
    command("archive", stage_library, "--to", drive)
    for number in range(6):
        (stage_library / f"large {number}").write_bytes(os.urandom(5_000_000))  # each a batch of its own

    def fail(number: int) -> BaseException | None:
        return OSError(28, "No space left on device") if recorder.noted[-1:] and seen(recorder) > 3 else None

    def seen(item: Recorder) -> int:
        return sum(step[0] == "create" and "large" in step[1] for step in item.noted)

    recorder = Recorder(drive, fail=fail)
    with recorder.watching():
        ran = command("archive", stage_library, "--to", drive)
    assert ran.status == 4
    assert "to continue" in ran.err
    ran = command("archive", stage_library, "--to", drive, "--json")
    assert ran.status == 0
    assert 2 <= ran.library["resumed_count"] < 6
    assert command("verify", drive).status == 0


def test_the_next_command_finishes_a_decided_change_and_says_so(
    library: Path, chest: dunechest.Chest, command: Command
) -> None:
    dunechest.archive([library], chest)
    (library / "rope.txt").write_text("cut")
    steps = ["rename"]

    def fail(number: int) -> BaseException | None:
        decided = any(
            step[0] == "rename" and step[2].endswith("journal.json") for step in recorder.noted if step[0] in steps
        )
        return OSError(5, "Input/output error") if decided else None

    recorder = Recorder(chest.folder, fail=fail)
    with recorder.watching(), pytest.raises(dunechest.CutOffError):
        dunechest.archive([library], chest)
    ran = command("verify", chest.folder)
    assert ran.status == 0
    assert "An interrupted change of shed was finished first." in ran.err
    assert "finished" not in command("verify", chest.folder).err
    record = dunechest.Chest.open(chest.folder).bag("shed").library
    assert record is not None
    assert record.edition == 2


def test_a_damaged_journal_never_costs_what_was_in_the_chest(library: Path, chest: dunechest.Chest) -> None:
    """Cut off between two phases, and the journal spoilt as well: what waits in between is not cleared away."""
    dunechest.archive([library], chest)
    (library / "rope.txt").rename(library / "line.txt")

    def fail(number: int) -> BaseException | None:
        away = any(step[0] == "rename" and "/pending/moved/" in step[2] for step in recorder.noted)
        return OSError(5, "Input/output error") if away else None

    recorder = Recorder(chest.folder, fail=fail)
    with recorder.watching(), pytest.raises(dunechest.CutOffError):
        dunechest.archive([library], chest)
    journal = bag_of(chest, "shed") / "dune" / "pending" / "journal.json"
    whole = journal.read_bytes()
    journal.write_bytes(whole[:-9])
    before = facts(bag_of(chest, "shed"))
    with pytest.raises(dunechest.errors.ChestUnusableError, match="journal is damaged"):
        dunechest.archive([library], dunechest.Chest.open(chest.folder))
    assert facts(bag_of(chest, "shed")) == before
    journal.write_bytes(whole)
    assert dunechest.verify(dunechest.Chest.open(chest.folder)).ok


@pytest.mark.slow
def test_large_files_kept_in_pieces_survive_power_cuts(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(pieces, "SMALLEST", 100_000)

    def prepare(stage: object) -> None:
        first_library(stage)  # type: ignore[arg-type]
        library: Path = stage.library  # type: ignore[attr-defined]
        big = bytearray(random.Random(3).randbytes(400_000))
        (library / "catalogue").write_bytes(bytes(big))
        stage.archive()  # type: ignore[attr-defined]
        big[1000:1100] = bytes(90)
        (library / "catalogue").write_bytes(bytes(big))
        changed_library(stage)  # type: ignore[arg-type]

    options = dunechest.ArchiveOptions(ignore=("mass-change",))  # most of the few files change
    job = Job("pieces", prepare, lambda chest, stage: dunechest.archive([stage.library], chest, options))
    outcome = sweep(job, tmp_path / "sweep", some=2, offset=5)
    assert outcome.losses == []
    (found,) = (tmp_path / "sweep").rglob("catalogue*.pieces.zip")
    assert found.stat().st_size < 200_000


# Two at once.


def test_two_processes_on_one_chest(library: Path, chest: dunechest.Chest, command: Command) -> None:
    program = (
        "import sys, time\nfrom dunechest import Chest\n"
        "with Chest.open(sys.argv[1]).changing('office-pc'):\n    print('up', flush=True)\n    time.sleep(60)"
    )
    with subprocess.Popen(
        [sys.executable, "-c", program, str(chest.folder)], stdout=subprocess.PIPE, text=True
    ) as other:
        assert other.stdout is not None
        other.stdout.readline()
        ran = command("archive", library, "--to", chest.folder)
        assert ran.status == 3
        assert f"process {other.pid} on office-pc" in ran.err
        other.kill()
    assert command("archive", library, "--to", chest.folder).status == 0, "a dead one's lock is none"


# Evenings.


@pytest.fixture
def huge(tmp_path: Path, chest: dunechest.Chest) -> Path:
    for name in ("a", "b"):
        (tmp_path / name).mkdir()
        for number in range(900):
            (tmp_path / name / f"{number:03}").write_text(f"{name} {number}")
        dunechest.archive([tmp_path / name], chest)
    return tmp_path


def test_a_drive_is_proven_over_several_evenings(huge: Path, chest: dunechest.Chest, command: Command) -> None:
    looked = []
    for _ in range(30):
        result = verify_for(chest, 0.0)
        (check,) = result.libraries
        looked.append((check.name, check.files, check.remaining_count))
        if check.name == "b" and not check.remaining_count:
            break
    assert [bag for bag, _, remaining in looked if not remaining] == ["a", "b"], "one is finished, then the next"
    for bag in ("a", "b"):
        assert sum(files for name, files, _ in looked if name == bag) == 907
    assert verify_for(chest, 0.0).libraries[0].name == "a", "the one checked longest ago comes first"
    shown = command("chest", "show", chest.folder).out
    assert "intact" in shown
    assert command("verify", chest.folder, "--time-limit", "2h").status == 0


def test_damage_counts_whenever_it_is_found(huge: Path, chest: dunechest.Chest, command: Command) -> None:
    flip(bag_of(chest, "a") / "data" / "library" / "850")
    states = []
    for _ in range(12):
        result = verify_for(chest, 0.0, ["a"])
        states += [s.path for s in result.libraries[0].problems]
        if not result.libraries[0].remaining_count:
            break
    assert states == ["data/library/850"]
    assert "problems found, 1 fault" in command("chest", "show", chest.folder).out


def test_large_files_among_small_ones_are_read_once_a_round(
    tmp_path: Path, chest: dunechest.Chest, command: Command
) -> None:
    """Each evening goes on where the one before ended, whichever files are large; what it finds counts at once."""
    library = tmp_path / "mixed"
    library.mkdir()
    for number in range(6):
        (library / f"{number} large").write_bytes(bytes([number]) * 5_000_000)
        (library / f"{number} small").write_text("ebb")
    dunechest.archive([library], chest)
    flip(bag_of(chest, "mixed") / "data" / "library" / "1 large")
    files = 0
    for evening in range(30):
        (check,) = verify_for(chest, 0.0).libraries
        files += check.files
        if check.wrong:
            (item,) = command("status", "--json").json["libraries"]
            assert (check.remaining_count > 0, item["copies"][0]["state"]) == (True, "damaged"), evening
        if not check.remaining_count:
            break
    assert not check.remaining_count and files == 12 + 7


@pytest.mark.parametrize(
    "words", [("--time-limit", "soon"), ("--time-limit", "20min", "--quick"), ("--time-limit", "0min")]
)
def test_times_that_are_none(words: tuple[str, ...], chest: dunechest.Chest, command: Command) -> None:
    assert command("verify", chest.folder, *words).status == 2


def test_a_check_is_suggested_when_the_last_is_long_ago(
    library: Path, chest: dunechest.Chest, command: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    command("archive", library, "--to", chest.folder)
    assert "not fully checked" not in command("chest", "show", chest.folder).out
    now = time.time()
    monkeypatch.setattr(clock, "now", lambda: now + 100 * 86_400)
    assert "not fully checked for 100 days" in command("chest", "show", chest.folder).out
    monkeypatch.setattr(clock, "now", lambda: now + 99 * 86_400)
    command("verify", chest.folder, "--quick")
    monkeypatch.setattr(clock, "now", lambda: now + 100 * 86_400)
    assert "-> not fully checked" in command("chest", "show", chest.folder).out
    command("verify", chest.folder)
    assert "not fully checked" not in command("chest", "show", chest.folder).out


# The chest's own record.


@pytest.mark.parametrize("torn", [None, b"", b'{"format": 1, "id', b"\xff\xfe"])
def test_a_chest_record_is_made_again_only_when_asked(
    torn: bytes | None, library: Path, chest: dunechest.Chest, command: Command, tmp_path: Path
) -> None:
    dunechest.archive([library], chest)
    path = chest.folder / "chest.json"
    path.unlink()
    if torn is not None:
        path.write_bytes(torn)
    before = facts(chest.folder)
    assert command("verify", chest.folder.parent).status == 1
    assert command("archive", library, "--to", chest.folder.parent).status == 3
    assert facts(chest.folder) == before, "never silently"
    ran = command("chest", "rebuild", chest.folder.parent, "--json")
    assert ran.status == 0
    assert (ran.json["chest"]["label"], ran.json["chest"]["id"]) == ("blue", chest.id)
    assert command("verify", chest.folder.parent).status == 0
    assert command("chest", "rebuild", chest.folder).status == 3, "a whole one is left alone"
    assert command("chest", "rebuild", tmp_path).status == 2


def test_a_chest_record_without_the_text_needs_a_label(chest: dunechest.Chest, command: Command) -> None:
    (chest.folder / "chest.json").unlink()
    (chest.folder / "READ-ME.txt").write_text("  Label of this chest: \x1b[31m\n")
    assert command("chest", "rebuild", chest.folder).status == 2
    assert command("chest", "rebuild", chest.folder, "--label", "sand").status == 0
    assert dunechest.Chest.open(chest.folder).label == "sand"


def test_a_newer_format_is_refused_untouched_and_unknown_files_are_left_alone(
    library: Path, chest: dunechest.Chest, command: Command
) -> None:
    dunechest.archive([library], chest)
    (chest.folder / "holiday.jpg").write_text("mine")
    (chest.folder / "bags" / "note.txt").write_text("mine")
    (library / "rope.txt").write_text("cut")
    assert command("archive", library, "--to", chest.folder).status == 0
    assert (chest.folder / "holiday.jpg").read_text() == "mine"
    assert (chest.folder / "bags" / "note.txt").read_text() == "mine"
    path = chest.folder / "chest.json"
    path.write_bytes(path.read_bytes().replace(b'"format": 1', b'"format": 2'))
    before = facts(chest.folder)
    for words in (
        ("archive", library, "--to", chest.folder),
        ("verify", chest.folder),
        ("chest", "rebuild", chest.folder),
    ):
        ran = command(*words)
        assert (ran.status, "newer version" in ran.err) == (3, True)
    assert facts(chest.folder) == before


# Real drives.


@pytest.fixture
def fuse(tmp_path: Path) -> Iterator[Callable[[], Path]]:
    """An exFAT image, mounted by a process that can be killed, and mounted again by another."""
    if shutil.which("mkfs.exfat") is None or shutil.which("mount.exfat-fuse") is None or os.geteuid() != 0:
        pytest.skip("exfatprogs, exfat-fuse and root are needed")
    image, place = tmp_path / "image of exfat", tmp_path / "mounted"
    with image.open("wb") as file:
        file.truncate(64 << 20)
    place.mkdir()
    subprocess.run(["mkfs.exfat", str(image)], check=True, capture_output=True)
    done = subprocess.run(["losetup", "-f", "--show", str(image)], capture_output=True, text=True, check=False)
    if done.returncode:
        pytest.skip("no loop device is available")
    device = done.stdout.strip()

    def mount() -> Path:
        why = ""
        for _ in range(8):  # one that was killed takes a moment to be gone
            subprocess.run(["umount", "-l", str(place)], check=False, capture_output=True)
            done = subprocess.run(
                ["mount.exfat-fuse", device, str(place)], capture_output=True, text=True, check=False
            )
            try:
                os.listdir(place)
            except OSError as error:
                why = str(error)
            else:
                if not done.returncode and os.path.ismount(place):
                    return place
                why = done.stderr
            time.sleep(0.4)
        pytest.skip(f"exFAT cannot be mounted here: {why}")

    try:
        yield mount
    finally:
        subprocess.run(["umount", "-l", str(place)], check=False, capture_output=True)
        subprocess.run(["losetup", "-d", device], check=False)


@pytest.mark.mounted
@pytest.mark.parametrize("when", [3, 20, 45, 70])
def test_a_drive_that_is_yanked_out(when: int, fuse: Callable[[], Path], tmp_path: Path) -> None:
    """The process that serves the mounted image is killed in the middle: every call fails from then on."""
    drive = fuse()
    library = tmp_path / "lib"
    (library / "deep").mkdir(parents=True)
    for number in range(25):
        (library / f"{number:02}").write_bytes(os.urandom(20_000))
    chest = dunechest.Chest.create(drive, "yanked")
    dunechest.archive([library], chest)
    first = facts(library)
    for number in range(9):
        (library / f"{number:02}").write_bytes(os.urandom(20_000))
    (library / "20").rename(library / "deep" / "moved")

    def yank(number: int) -> BaseException | None:
        if number == when:
            subprocess.run(["pkill", "-9", "-f", f"mount.exfat-fuse .*{drive}"], check=False)
            time.sleep(0.2)
        return None

    with Recorder(drive, fail=yank).watching():
        try:
            dunechest.archive([library], chest)
        except (dunechest.DuneChestError, OSError):
            pass
    chest = dunechest.Chest.open(fuse())
    assert dunechest.verify(chest).ok
    assert dunechest.restore(chest, "lib", dunechest.RestoreOptions(into=str(tmp_path / "b"), edition=1)).ok
    assert facts(tmp_path / "b") == first
    (account,) = dunechest.archive([library], chest)
    assert account.ok
    assert account.edition == 2
    assert dunechest.restore(chest, "lib", dunechest.RestoreOptions(into=str(tmp_path / "b2"))).ok
    assert facts(tmp_path / "b2") == facts(library)


@pytest.mark.mounted
@pytest.mark.parametrize("when", [20, 60])
@pytest.mark.parametrize("yanked", ["source", "target"])
@pytest.mark.parametrize("image", ["ntfs"], indirect=True)
def test_a_drive_that_is_yanked_out_while_it_is_copied(
    when: int, yanked: str, mounted: Path, fuse: Callable[[], Path], tmp_path: Path
) -> None:
    """Two drives of different filesystems; one goes in the middle, and comes back."""
    places = {"source": mounted, "target": fuse()} if yanked == "target" else {"source": fuse(), "target": mounted}
    library = tmp_path / "lib"
    (library / "deep").mkdir(parents=True)
    for number in range(25):
        (library / f"{number:02}").write_bytes(os.urandom(20_000))
    source, target = (dunechest.Chest.create(place, name) for name, place in places.items())
    states = {}
    for edition in (1, 2, 3):
        (library / f"deep/only {edition}").write_bytes(os.urandom(20_000))
        (library / f"{edition:02}").unlink()
        dunechest.archive([library], source)
        states[edition] = facts(library)
        if edition == 1:
            assert dunechest.copy_chest(source, target)[0].ok

    def yank(number: int) -> BaseException | None:
        if number == when:
            subprocess.run(["pkill", "-9", "-f", f"mount.exfat-fuse .*{places[yanked]}"], check=False)
            time.sleep(0.2)
        return None

    with Recorder(places["target"], fail=yank).watching():
        try:
            dunechest.copy_chest(source, target)
        except (dunechest.DuneChestError, OSError):
            pass
    fuse()
    for place, editions in ((places["source"], (1, 2, 3)), (places["target"], (1,))):
        chest = dunechest.Chest.open(place)
        assert dunechest.verify(chest).ok
        there = [edition.edition for edition in dunechest.list_editions(chest, "lib").editions]
        assert there in ([*editions], [1, 2, 3])
    (result,) = dunechest.copy_chest(places["source"], places["target"])
    assert result.ok
    for edition, state in states.items():
        back = tmp_path / f"back {edition}"
        restored = dunechest.restore(
            places["target"], "lib", dunechest.RestoreOptions(into=str(back), edition=edition)
        )
        assert restored.ok
        assert facts(back) == state


@pytest.mark.mounted
def test_a_drive_that_fills_up_while_an_edition_is_made(tmp_path: Path) -> None:
    tiny = tmp_path / "tiny"
    tiny.mkdir()
    done = subprocess.run(
        ["mount", "-t", "tmpfs", "-o", "size=3m", "tmpfs", str(tiny)], capture_output=True, check=False
    )
    if done.returncode:
        pytest.skip("a small tmpfs cannot be mounted here")
    try:
        library = tmp_path / "lib"
        library.mkdir()
        for number in range(6):
            (library / f"{number}").write_bytes(os.urandom(150_000))
        chest = dunechest.Chest.create(tiny, "tiny")
        dunechest.archive([library], chest)
        first = facts(library)
        for number in range(6, 12):
            (library / f"{number}").write_bytes(os.urandom(150_000))
        (plan,) = dunechest.plan_archive([dunechest.library_at(library)], chest)
        (tiny / "ballast").write_bytes(bytes(1_600_000))
        from dunechest.jobs.archive.doing.archiving import carry_out

        with pytest.raises(dunechest.CutOffError, match="No space"):
            carry_out(plan)
        chest = dunechest.Chest.open(tiny)
        assert dunechest.verify(chest).ok
        assert dunechest.restore(chest, "lib", dunechest.RestoreOptions(into=str(tmp_path / "b"))).ok
        assert facts(tmp_path / "b") == first
        (tiny / "ballast").unlink()
        (account,) = dunechest.archive([library], chest)
        assert (account.edition, account.ok) == (2, True)
        assert account.resumed_count > 0
    finally:
        subprocess.run(["umount", "-l", str(tiny)], check=True)
