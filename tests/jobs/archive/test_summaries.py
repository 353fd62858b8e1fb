"""Accounts that add up whatever happens, pretended drives, and two programs at once."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
import threading
from collections.abc import Callable
from pathlib import Path
from typing import Any

import msgspec
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import dunechest
from dunechest.bag.bag import read_bag
from dunechest.machine import drives
from dunechest.machine.drives import Filesystem, limits_of
from dunechest.transfer import copying
from dunechest.transfer.tasks import CopyJob, CopyOutcome
from tests.support.runs import Command
from tests.support.trees import bag_of, facts, sha512sum

Pretend = Callable[[str], None]


@pytest.fixture
def pretend(monkeypatch: pytest.MonkeyPatch) -> Pretend:
    """Have every drive take itself for one with another filesystem; for none with an empty name."""

    def as_if(kind: str) -> None:
        def pretended(found: Filesystem) -> Filesystem:
            return msgspec.structs.replace(found, type=kind, limits=limits_of(kind), whole_sync=False)

        monkeypatch.setattr(drives, "pretend", pretended if kind else None)

    return as_if


@pytest.mark.parametrize("kind", ["exfat", "ntfs", "vfat", "apfs", "never-heard-of"])
def test_a_nasty_tree_by_way_of_a_pretended_drive(
    kind: str, nasty: Path, chest: dunechest.Chest, tmp_path: Path, pretend: Pretend
) -> None:  # fmt: skip
    pretend(kind)
    before = facts(nasty)
    (account,) = dunechest.archive([nasty], chest)
    assert account.ok
    limits = limits_of(kind)
    there = list((bag_of(chest, "nasty-tree") / "data").rglob("*"))
    assert not [p for p in there if not limits.forbidden.isdisjoint(p.name)]
    assert not [p for p in there if limits.windows and p.name[-1] in ". "]
    folded = [str(p).casefold() for p in there]
    assert len(set(folded)) == len(folded)
    assert dunechest.verify(chest).ok
    pretend("")  # the new place is another drive
    dunechest.restore(chest, "nasty-tree", dunechest.RestoreOptions(into=tmp_path / "back"))
    assert facts(tmp_path / "back") == before
    pretend(kind)
    assert dunechest.archive([nasty], chest)[0].state == "unchanged"


def test_a_file_too_large_for_the_drive_stops_or_is_left_out(
    library: Path, chest: dunechest.Chest, pretend: Pretend, command: Command
) -> None:
    pretend("vfat")
    with (library / "film.raw").open("wb") as file:
        file.write(b"R")  # or it would be a placeholder
        file.truncate((4 << 30) + 5)
    ran = command("archive", library, "--to", chest.folder)
    assert ran.status == 3
    assert "file-too-large" in ran.err
    assert "film.raw" in ran.err
    ran = command("archive", library, "--to", chest.folder, "--ignore", "file-too-large", "--json")
    assert ran.status == 1
    (account,) = ran.json["libraries"]
    assert [(o["path"], o["fault"]) for o in account["left_out"]] == [("film.raw", True)]
    assert account["archived_count"] == 3


def test_a_restore_to_a_place_that_tells_no_cases_apart(
    chest: dunechest.Chest, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    place = tmp_path / "lib"
    (place / "Sea").mkdir(parents=True)
    (place / "sea").mkdir()
    for name in ("Sea/Tern", "sea/tern", "sea/TERN", "aux", "what?"):
        (place / name).write_text(name)
    dunechest.archive([place], chest)
    monkeypatch.setattr(drives, "pretend", lambda found: msgspec.structs.replace(found, limits=limits_of("ntfs")))
    result = dunechest.restore(chest, "lib", dunechest.RestoreOptions(into=str(tmp_path / "back")))
    assert result.file_count == 5
    contents = {p.read_text() for p in (tmp_path / "back").rglob("*") if p.is_file()}
    assert contents == {"Sea/Tern", "sea/tern", "sea/TERN", "aux", "what?"}
    names = [str(p.relative_to(tmp_path / "back")).casefold() for p in (tmp_path / "back").rglob("*")]
    assert len(set(names)) == len(names)
    assert not {"aux", "what?"} & set(names)
    assert {"aux", "what?"} <= {old for old, _ in result.renamed}


@given(st.lists(st.sampled_from(["ok", "vanished", "unreadable", "changing"]), min_size=8, max_size=8))
@settings(max_examples=15)
def test_found_is_copied_plus_left_out_whatever_happens(fates: list[str]) -> None:
    with tempfile.TemporaryDirectory() as folder, pytest.MonkeyPatch.context() as patch:
        top = Path(folder)
        (top / "lib").mkdir()
        (top / "drive").mkdir()
        for number in range(8):
            (top / "lib" / f"{number}").write_bytes(b"x" * (number + 1))
        os.mkfifo(top / "lib" / "pipe")
        real = copying.copy_files

        def troubled(job: CopyJob, tell: Callable[[int], None]) -> list[CopyOutcome]:
            good = CopyJob([t for t, fate in zip(job.tasks, fates, strict=True) if fate == "ok"], True, True)
            done = iter(real(good, tell))
            return [next(done) if fate == "ok" else CopyOutcome(fate, why="as told") for fate in fates]  # type: ignore[arg-type]

        chest = dunechest.Chest.create(top / "drive", "x")
        patch.setattr(copying, "copy_files", troubled)
        (account,) = dunechest.archive([top / "lib"], chest)
        patch.undo()
        assert account.found_count == 9 == account.archived_count + len(account.left_out)
        assert account.found_bytes == 36 == account.archived_bytes + account.bytes_left_out
        assert account.ok == (set(fates) == {"ok"})
        assert {o.path for o in account.left_out if o.fault} == {
            str(n) for n, fate in enumerate(fates) if fate != "ok"
        }
        assert dunechest.verify(chest).ok
        record = json.loads((bag_of(chest, "lib") / "dune" / "library.json").read_bytes())
        assert record["totals"]["files_found"] == 9
        assert len(record["left_out"]) == len(account.left_out)


def test_two_archives_at_once_one_waits_its_turn(tmp_path: Path, chest: dunechest.Chest) -> None:
    results: list[int] = []

    def run(name: str) -> None:
        place = tmp_path / name
        words = [sys.executable, "-m", "dunechest", "archive", str(place), "--to", str(chest.folder)]
        results.append(subprocess.run(words, capture_output=True, check=False).returncode)

    for name in ("one", "two", "three"):
        (tmp_path / name).mkdir()
        for number in range(200):
            (tmp_path / name / str(number)).write_bytes(os.urandom(3000))
    runners = [threading.Thread(target=run, args=(name,)) for name in ("one", "two", "three")]
    for runner in runners:
        runner.start()
    for runner in runners:
        runner.join()
    assert set(results) <= {0, 3}
    assert 0 in results
    assert len([e for e in chest.bags() if e.state == "whole"]) == results.count(0)
    assert dunechest.verify(chest).ok


def test_the_bag_info_says_who_what_and_when(library: Path, chest: dunechest.Chest) -> None:
    dunechest.archive([library], chest)
    bag = read_bag(bag_of(chest, "shed"))
    info = dict(bag.info)
    assert set(info) == {
        "Source-Organization", "External-Description", "External-Identifier", "Bagging-Date",
        "Bag-Software-Agent", "Payload-Oxum", "Dune-Chest-Edition",
    }  # fmt: skip
    assert info["External-Identifier"] == "shed"
    assert info["Payload-Oxum"] == f"{sum(f.stat().st_size for f in library.rglob('*') if f.is_file())}.3"
    assert bag.declaration.version == (1, 0)
    (tags,) = bag.tag
    assert set(tags.entries) == {
        "bagit.txt", "bag-info.txt", "manifest-sha512.txt", "HOW-TO-RESTORE.txt",
        "dune/library.json", "dune/files.jsonl", "dune/tags.jsonl",
    }  # fmt: skip
    assert (
        subprocess.run(
            ["sha512sum", "--quiet", "--strict", "-c", "tagmanifest-sha512.txt"], cwd=bag.folder, check=False
        ).returncode
        == 0
    )


def test_every_payload_file_has_its_line(library: Path, chest: dunechest.Chest) -> None:
    (library / "rope.txt").chmod(0o604)
    dunechest.archive([library], chest)
    lines = [json.loads(line) for line in (bag_of(chest, "shed") / "dune" / "files.jsonl").read_text().splitlines()]
    assert [line["path"] for line in lines] == [
        "library/rafters/big.bin",
        "library/rafters/oar.txt",
        "library/rope.txt",
    ]
    rope = lines[2]
    info = (library / "rope.txt").stat()
    assert (rope["size"], rope["mtime_ns"], rope["mode"]) == (info.st_size, info.st_mtime_ns, 0o604)
    record = json.loads((bag_of(chest, "shed") / "dune" / "library.json").read_bytes())
    assert [(f["path"], f["empty"]) for f in record["folders"]] == [("", False), ("empty", True), ("rafters", False)]
    assert record["origin"]["path"] == str(library)


def test_json_documents_have_their_fields(
    library: Path, chest: dunechest.Chest, tmp_path: Path, command: Command
) -> None:
    wanted: list[tuple[tuple[Any, ...], set[str]]] = [
        (("find", tmp_path, "--json"), {"libraries", "searched_paths", "unreadable_paths"}),
        (("look", library, "--json"), {"libraries", "findings"}),
        (("archive", library, "--to", chest.folder, "--json"), {"chest", "libraries"}),
        (("verify", chest.folder, "--json"), {"path", "chest", "quick", "ok", "libraries"}),
        (("chest", "show", chest.folder, "--json"), {"chest", "free_bytes", "libraries", "known_before"}),
        (
            ("restore", chest.folder, "shed", "--into", tmp_path / "b", "--json"),
            {"chest", "libraries", "left_behind", "ok"},
        ),
    ]
    for words, fields in wanted:
        document = command(*words).json
        assert fields <= set(document), words
    refused = command("restore", chest.folder, "shed", "--into", tmp_path / "b", "--json")
    assert refused.status == refused.json["exit_status"] == 3
    assert refused.json["findings"][0]["code"] == "occupied"
    assert refused.json["findings"][0]["severity"] == "blocks"


def test_names_that_are_not_text_go_through_json_unharmed(
    tmp_path: Path, chest: dunechest.Chest, command: Command
) -> None:
    place = tmp_path / "lib"
    place.mkdir()
    odd = os.fsdecode(b"caf\xe9\x1b[0m")
    (place / odd).write_text("x")
    plan = command("archive", place, "--to", chest.folder, "--plan", "--json")
    assert plan.out.isascii()
    assert [f["path"] for f in plan.library["files"]] == [odd]


def test_the_library_may_be_named_through_a_link(library: Path, tmp_path: Path, chest: dunechest.Chest) -> None:
    (tmp_path / "my shed").symlink_to(library)
    (account,) = dunechest.archive([tmp_path / "my shed"], chest)
    assert account.archived_as == "my-shed"
    assert account.archived_count == 3
    assert dunechest.archive([library], chest)[0].state == "unchanged", "it is the same library"


def test_an_empty_library_and_one_of_folders_only(tmp_path: Path, chest: dunechest.Chest) -> None:
    (tmp_path / "hollow log" / "a" / "b").mkdir(parents=True)
    (account,) = dunechest.archive([tmp_path / "hollow log"], chest)
    assert [f.code for f in account.findings] == ["empty", "same-device"]
    assert sha512sum(bag_of(chest, "hollow-log")).returncode != 2
    assert dunechest.verify(chest).ok
    dunechest.restore(chest, "hollow-log", dunechest.RestoreOptions(into=str(tmp_path / "back")))
    assert facts(tmp_path / "back") == facts(tmp_path / "hollow log")


def test_rights_to_act_as_another_are_not_taken_from_a_drive(tmp_path: Path, chest: dunechest.Chest) -> None:
    place = tmp_path / "lib"
    place.mkdir()
    (place / "program").write_text("#!")
    (place / "program").chmod(0o4755)
    dunechest.archive([place], chest)
    stored = bag_of(chest, "lib") / "data" / "library" / "program"
    assert stored.stat().st_mode & 0o7000 == 0
    dunechest.restore(chest, "lib", dunechest.RestoreOptions(into=str(tmp_path / "back")))
    assert (tmp_path / "back" / "program").stat().st_mode & 0o7777 == 0o755


def test_a_leftover_of_a_killed_restore_is_taken_over_and_a_stranger_is_not(
    library: Path, chest: dunechest.Chest, tmp_path: Path, command: Command
) -> None:
    dunechest.archive([library], chest)
    staging = tmp_path / f".dune-restore-{chest.id[:8]}-shed"
    (staging / "tree" / "half").mkdir(parents=True)
    ran = command("restore", chest.folder, "shed", "--into", tmp_path / "back")
    assert ran.status == 3
    assert "in the way" in ran.err
    assert (staging / "tree" / "half").exists()
    (staging / "restoring.json").write_text(json.dumps({"chest": chest.id, "bag": "shed"}, separators=(",", ":")))
    living = {"chest": chest.id, "bag": "shed", "pid": os.getppid()}
    unfinished = (staging / "restoring.json").read_text()
    (staging / "restoring.json").write_text(json.dumps(living))
    assert "right now" in command("restore", chest.folder, "shed", "--into", tmp_path / "back").err
    assert (staging / "tree" / "half").exists()
    (staging / "restoring.json").write_text(unfinished)
    assert command("restore", chest.folder, "shed", "--into", tmp_path / "back").status == 0
    assert not staging.exists()
    assert not (tmp_path / "back" / "half").exists()


def test_folders_that_may_not_be_written_to_come_back_so(tmp_path: Path, chest: dunechest.Chest) -> None:
    place = tmp_path / "lib"
    (place / "shut" / "inner").mkdir(parents=True)
    (place / "shut" / "inner" / "f").write_text("x")
    for folder in (place / "shut" / "inner", place / "shut", place):
        folder.chmod(0o555)
    try:
        dunechest.archive([place], chest)
        dunechest.restore(chest, "lib", dunechest.RestoreOptions(into=str(tmp_path / "back")))
        assert facts(tmp_path / "back") == facts(place)
    finally:
        for top in (place, tmp_path / "back"):
            for folder in (top, top / "shut", top / "shut" / "inner"):
                folder.chmod(0o755)


def test_a_thousand_files_unchanged_are_not_opened(
    tmp_path: Path, chest: dunechest.Chest, monkeypatch: pytest.MonkeyPatch
) -> None:
    place = tmp_path / "lib"
    place.mkdir()
    for number in range(1000):
        (place / str(number)).write_text(str(number))
    dunechest.archive([place], chest)
    opened: list[str] = []
    real = os.open

    def watched(path: Any, *rest: Any, **more: Any) -> int:
        opened.append(os.fsdecode(path))
        return real(path, *rest, **more)

    monkeypatch.setattr(os, "open", watched)
    (account,) = dunechest.archive([place], chest)
    assert account.state == "unchanged"
    assert not [path for path in opened if path.startswith(str(place))]
