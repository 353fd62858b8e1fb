"""No record is believed that no digest proves, and no count is held against the list that it was counted from."""

from __future__ import annotations

import json
import os
import shutil
from collections.abc import Callable
from pathlib import Path

import pytest

import dunechest
from dunechest.chest.edition_totals import edition_lines
from dunechest.jobs.check.verify.timed import verify_for
from tests.support.runs import Command
from tests.support.sealing import reseal
from tests.support.trees import bag_of, facts, flip

Break = Callable[[Path], object]


def lines(path: Path, keep: Callable[[list[bytes]], list[bytes]]) -> None:
    path.write_bytes(b"".join(keep(path.read_bytes().splitlines(keepends=True))))


@pytest.fixture
def three(tmp_path: Path, chest: dunechest.Chest) -> Path:
    """A library with links, an empty folder and modes, in three editions."""
    library = tmp_path / "nets"
    (library / "empty").mkdir(parents=True)
    (library / "a").mkdir()
    (library / "secret").write_text("nobody else")
    (library / "secret").chmod(0o600)
    (library / "to a").symlink_to("a")
    for number in range(4):
        (library / "a" / f"{number}").write_text(f"knot {number}\n" * 20)
    for edition in range(1, 4):
        if edition > 1:
            (library / "a" / "0").write_text(f"knot of edition {edition}\n")
        (account,) = dunechest.archive([library], chest)
        assert account.edition == edition
    return library


RECORDS: dict[str, Break] = {
    "files.jsonl empty": lambda b: (b / "dune/files.jsonl").write_bytes(b""),
    "files.jsonl torn": lambda b: os.truncate(b / "dune/files.jsonl", 200),
    "files.jsonl, a line missing": lambda b: lines(b / "dune/files.jsonl", lambda every: every[1:]),
    "both lists empty": lambda b: [(b / n).write_bytes(b"") for n in ("dune/files.jsonl", "manifest-sha512.txt")],
    "both lists, a line missing": lambda b: [
        lines(b / n, lambda every: every[1:]) for n in ("dune/files.jsonl", "manifest-sha512.txt")
    ],
    "a time is another": lambda b: sub(b / "dune/files.jsonl", b'"mtime_ns":1', b'"mtime_ns":2'),
    "a mode is another": lambda b: sub(b / "dune/files.jsonl", b'"mode":384', b'"mode":438'),
    "a name is another": lambda b: sub(b / "dune/library.json", b'"empty"', b'"ampty"'),
    "library.json gone": lambda b: (b / "dune/library.json").unlink(),
    "library.json torn": lambda b: os.truncate(b / "dune/library.json", 500),
    "the tag manifest sorted otherwise": lambda b: lines(b / "tagmanifest-sha512.txt", lambda every: every[::-1]),
    "the tag manifest and its twin gone": lambda b: [
        (b / n).unlink() for n in ("tagmanifest-sha512.txt", "dune/tags.jsonl")
    ],
    "bag-info.txt counts one more": lambda b: sub(b / "bag-info.txt", b".5\n", b".6\n"),
    "a digest that is none": lambda b: sub(b / "dune/files.jsonl", b'"blake3":"', b'"blake3":"zz'),
}


def sub(path: Path, old: bytes, new: bytes) -> None:
    content = path.read_bytes()
    assert old in content
    path.write_bytes(content.replace(old, new, 1))


@pytest.mark.parametrize("what", RECORDS)
def test_a_record_that_is_not_proven_is_said_so_by_all_who_use_it(
    what: str, three: Path, chest: dunechest.Chest, tmp_path: Path, command: Command
) -> None:
    truth = facts(three)
    bag = bag_of(chest, "nets")
    RECORDS[what](bag)
    assert command("verify", chest.folder).status == 1
    assert command("verify", chest.folder, "--quick").status == 1
    into = tmp_path / "back"
    ran = command("restore", chest.folder, "nets", "--into", into)
    assert ran.status == 1 or facts(into) == truth
    if "list" in what or "files.jsonl" in what:
        assert ran.status == 1
        assert "INCOMPLETE" in ran.out or facts(into) != truth or "Damaged record" in ran.out
    assert command("drill", chest.folder).status == ran.status
    # What the damaged archive is told to hold is not written over with new digests.
    before = facts(bag)
    (three / "a" / "1").write_text("rewritten")
    ran = command("archive", three, "--to", chest.folder)
    assert (ran.status, "damaged-archive" in ran.err) == (3, True)
    assert facts(bag) == before
    ran = command("archive", three, "--to", chest.folder, "--as", "nets-2")
    assert ran.status == (0 if "library.json" in what else ran.status)


def test_times_and_modes_are_never_taken_from_a_list_that_is_not_proven(
    three: Path, chest: dunechest.Chest, tmp_path: Path
) -> None:
    sub(bag_of(chest, "nets") / "dune/files.jsonl", b'"mode":384', b'"mode":511')
    result = dunechest.restore(chest, "nets", dunechest.RestoreOptions(into=str(tmp_path / "back")))
    assert not result.ok
    assert (tmp_path / "back" / "secret").stat().st_mode & 0o077 & ~0o044 == 0
    assert [fault.path for fault in result.damaged_records] == ["dune/files.jsonl"]


def test_totals_stand_in_two_places_for_every_edition(three: Path, chest: dunechest.Chest, command: Command) -> None:
    from dunechest.bag.bag import read_bag

    bag = bag_of(chest, "nets")
    told = edition_lines(read_bag(bag).info)
    assert {number: item.files for number, item in told.items()} == {1: 5, 2: 5, 3: 5}
    assert (told[3].folders, told[3].links) == (3, 1)
    sub(bag / "bag-info.txt", b"3, 5 files", b"3, 6 files")
    reseal(bag, totals=False)
    ran = command("verify", chest.folder)
    assert (ran.status, "its numbers for edition 3 differ" in ran.out) == (1, True)


def test_one_file_fewer_than_counted_is_not_well(
    three: Path, chest: dunechest.Chest, tmp_path: Path, command: Command
) -> None:
    bag = bag_of(chest, "nets")
    for name in ("dune/files.jsonl", "manifest-sha512.txt"):
        lines(bag / name, lambda every: every[:-1])
    (bag / "data/library/secret").unlink()
    reseal(bag)
    assert command("verify", chest.folder).status == 1
    ran = command("restore", chest.folder, "nets", "--into", tmp_path / "back")
    assert (ran.status, "INCOMPLETE: 4 of 5 files" in ran.out) == (1, True)
    assert "start" not in ran.out.lower().replace("restart", "")


def test_an_edition_whose_record_is_gone_is_missed(three: Path, chest: dunechest.Chest, command: Command) -> None:
    shutil.rmtree(bag_of(chest, "nets") / "dune" / "editions")
    ran = command("editions", "list", chest.folder, "nets", "--json")
    assert ran.status == 1
    assert command("restore", chest.folder, "nets", "--edition", "1", "--plan").status == 1
    assert command("editions", "drop", chest.folder, "nets", "--retain", "the last 1", "--yes").status == 3


def test_a_cut_list_of_changes_never_fills_an_edition_with_other_bytes(
    three: Path, chest: dunechest.Chest, tmp_path: Path, command: Command
) -> None:
    path = bag_of(chest, "nets") / "dune/editions/0001/changes.jsonl"
    path.write_bytes(b"")
    ran = command("restore", chest.folder, "nets", "--edition", "1", "--into", tmp_path / "back")
    assert (ran.status, (tmp_path / "back").exists()) == (1, False)
    assert command("restore", chest.folder, "nets", "--edition", "2", "--into", tmp_path / "b2").status == 0


def test_lines_about_what_earlier_editions_had_are_held_against_each_other(
    three: Path, chest: dunechest.Chest, command: Command
) -> None:
    path = bag_of(chest, "nets") / "tagmanifest-sha512.txt"
    every = path.read_bytes().splitlines(keepends=True)
    at = next(n for n, line in enumerate(every) if b"dune/earlier/" in line)
    every[at] = (b"0" if every[at][:1] != b"0" else b"1") + every[at][1:]
    path.write_bytes(b"".join(every))
    ran = command("verify", chest.folder)
    assert (ran.status, "tagmanifest-sha512.txt" in ran.out) == (1, True)


@pytest.mark.parametrize("how", ["gone", "renamed", "link", "file"])
def test_a_library_that_is_no_longer_there_is_missed(
    how: str, three: Path, chest: dunechest.Chest, tmp_path: Path, command: Command
) -> None:
    bag = bag_of(chest, "nets")
    bag.rename(tmp_path / "elsewhere")
    if how == "renamed":
        (tmp_path / "elsewhere").rename(chest.folder / "bags" / "netz")
    elif how == "link":
        bag.symlink_to(tmp_path / "elsewhere")
    elif how == "file":
        bag.write_text("nets")
    for words in (("verify",), ("verify", "--quick"), ("chest", "show"), ("restore",), ("drill",)):
        ran = command(*words[:1], *words[1:2] if words[0] == "chest" else (), chest.folder, *words[2:])
        assert (ran.status, "nets" in ran.out + ran.err) == (1, True), words
    if how == "gone":
        assert command("chest", "forget", chest.folder, "nets").status == 0
        assert command("verify", chest.folder).status == 0
    elif how == "renamed":
        assert "was called nets" in command("verify", chest.folder).out


def test_a_pending_folder_and_no_declaration_do_not_hide_damage(
    three: Path, chest: dunechest.Chest, command: Command
) -> None:
    bag = bag_of(chest, "nets")
    (bag / "bagit.txt").unlink()
    (bag / "dune/pending/payload").mkdir(parents=True)
    flip(bag / "data/library/a/2")
    ran = command("verify", chest.folder)
    assert (ran.status, "data/library/a/2" in ran.out, "bagit.txt" in ran.out) == (1, True, True)


def test_all_and_a_drill_of_all_name_what_they_leave_out(
    three: Path, chest: dunechest.Chest, library: Path, tmp_path: Path, command: Command
) -> None:
    dunechest.archive([library], chest)
    (bag_of(chest, "nets") / "dune/library.json").write_bytes(b"{}")
    ran = command("drill", chest.folder, "--json")
    assert ran.status == 1
    assert {item["name"]: item["passed"] for item in ran.json["libraries"]} == {"nets": False, "shed": True}
    where = command("restore", chest.folder, "--all", "--map", f"{library.parent}={tmp_path / 'new'}", "--json")
    assert where.status == 1, where.out
    assert [item["name"] for item in where.json["left_behind"]] == ["nets"]
    assert (tmp_path / "new" / "shed" / "rope.txt").exists()


def test_the_chest_s_own_id_and_label_are_proven(chest: dunechest.Chest, command: Command) -> None:
    path = chest.folder / "chest.json"
    before = path.read_bytes()
    for old, new in ((b'"blue"', b'"glue"'), (chest.id[:8].encode(), b"00000000")):
        path.write_bytes(before.replace(old, new))
        ran = command("verify", chest.folder)
        assert (ran.status, "chest.json" in ran.out) == (1, True)
        assert dunechest.Chest.open(chest.folder).id == chest.id
        assert dunechest.Chest.open(chest.folder).label == "blue"


def test_what_the_archive_lost_is_given_back_by_the_library_and_said(
    three: Path, chest: dunechest.Chest, command: Command
) -> None:
    data = bag_of(chest, "nets") / "data/library/a"
    whole = facts(data)
    (data / "1").unlink()
    os.truncate(data / "2", 3)
    ran = command("archive", three, "--to", chest.folder)
    assert (ran.status, "2 files missing from" in ran.out) == (0, True)
    assert facts(data, times=False) == {k: (*v[:-1], 0) for k, v in whole.items()}
    assert command("verify", chest.folder).status == 0
    shutil.rmtree(data)
    assert command("archive", three, "--to", chest.folder).status == 0
    assert dunechest.verify(chest).ok
    (data / "3").unlink()
    info = (three / "a" / "3").stat()
    (three / "a" / "3").write_bytes(b"x" * info.st_size)
    os.utime(three / "a" / "3", ns=(info.st_atime_ns, info.st_mtime_ns))
    ran = command("archive", three, "--to", chest.folder)
    assert (ran.status, "LOST" in ran.out) == (1, True), "other bytes of the same size and time are no cure"


def test_a_wrong_fast_digest_is_not_the_last_word(three: Path, chest: dunechest.Chest, tmp_path: Path) -> None:
    """Both lists are damaged, each in another line: what either still proves comes back."""
    bag = bag_of(chest, "nets")
    every = (bag / "dune/files.jsonl").read_bytes().splitlines(keepends=True)
    item = json.loads(every[0])
    every[0] = json.dumps({**item, "blake3": "0" * 64}).encode() + b"\n"
    (bag / "dune/files.jsonl").write_bytes(b"".join(every))
    sub(bag / "manifest-sha512.txt", b"data/library/a/2", b"data/library/a/x")
    result = dunechest.restore(chest, "nets", dunechest.RestoreOptions(into=str(tmp_path / "back")))
    assert (tmp_path / "back" / item["path"].removeprefix("library/")).exists()
    assert not result.ok


def test_a_failed_check_ends_proven_and_a_quick_one_takes_nothing_back(
    three: Path, chest: dunechest.Chest, command: Command
) -> None:
    def shown() -> dict[str, object]:
        (item,) = command("chest", "show", chest.folder, "--json").json["libraries"]
        return {"proven": item["proven"], "intact": item["last_check"] and item["last_check"]["intact"]}

    assert command("drill", chest.folder, "nets").status == 0
    assert shown()["proven"] is True
    flip(bag_of(chest, "nets") / "data/library/a/2")
    assert command("verify", chest.folder).status == 1
    assert shown() == {"proven": False, "intact": False}
    ran = command("verify", chest.folder, "--quick")
    assert (ran.status, "without --quick" in ran.out) == (1, True)
    assert "intact" not in ran.out.split("not")[0]
    assert shown() == {"proven": False, "intact": False}
    flip(bag_of(chest, "nets") / "data/library/a/2")
    assert command("verify", chest.folder).status == 0
    assert shown() == {"proven": False, "intact": True}
    assert command("drill", chest.folder, "nets").status == 0
    assert shown()["proven"] is True


def test_a_slow_verification_misses_what_is_gone_too(three: Path, chest: dunechest.Chest) -> None:
    shutil.rmtree(bag_of(chest, "nets"))
    assert [check.kind for check in verify_for(chest, 5.0).libraries] == ["missing"]


def test_two_chests_of_one_id_are_two(
    three: Path, chest: dunechest.Chest, tmp_path: Path, command: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    other = tmp_path / "other drive"
    shutil.copytree(chest.folder.parent, other)
    monkeypatch.setenv("DUNECHEST_DRIVES", os.pathsep.join((str(chest.folder.parent), str(other))))
    listed = command("chest", "list", "--json").json["chests"]
    assert {item["folder"] for item in listed} == {str(chest.folder), str(other / "dune-chest")}
    assert command("verify", chest.folder).status == 0
    (item,) = command("chest", "show", other, "--json").json["libraries"]
    assert item["last_check"] is None, "the check of the one says nothing of the other"
    assert command("verify", "blue").status == 2, "either could be meant"
