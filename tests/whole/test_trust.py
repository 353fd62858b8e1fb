"""A chest is foreign input: nothing leaves its folder, nothing acts on a terminal."""

from __future__ import annotations

import os
import shutil
from collections.abc import Callable
from pathlib import Path
from typing import Any

import msgspec
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import dunechest
from dunechest.chest.stored_names import StoredNames
from dunechest.jobs.restore.planning.paths import leads_out
from dunechest.machine.drives import Limits, limits_of
from dunechest.names import shown, why_unsafe
from tests.support import sealing
from tests.support.runs import Command
from tests.support.sealing import reseal_chest
from tests.support.trees import bag_of, facts

Edit = Callable[[dict[str, Any]], None]


@pytest.fixture
def tampered(library: Path, chest: dunechest.Chest) -> Callable[[Edit], dunechest.Chest]:
    """Archive a library, and change its record behind the manifests' back."""
    (library / "inward").symlink_to("rope.txt")
    dunechest.archive([library], chest)

    def tamper(edit: Edit) -> dunechest.Chest:
        sealing.edit(bag_of(chest, "shed"), edit)
        return chest

    return tamper


def test_paths_that_lead_out_are_refused_and_reported(
    tampered: Callable[[Edit], dunechest.Chest], tmp_path: Path, command: Command
) -> None:
    def edit(record: dict[str, Any]) -> None:
        record["folders"] += [{"path": "../escaped", "mtime_ns": 0, "mode": 511}]
        record["folders"] += [{"path": str(tmp_path / "absolute"), "mtime_ns": 0, "mode": 511}]
        record["links"] += [
            {"path": "../../planted", "target": "x", "mtime_ns": 0},
            {"path": "out1", "target": "/etc/passwd", "mtime_ns": 0},
            {"path": "rafters/out2", "target": "../../../etc", "mtime_ns": 0},
        ]
        record["changed_names"] = [{"path": "../../owned.txt", "stored": "rope.txt"}]

    chest = tampered(edit)
    ran = command("restore", chest.folder, "shed", "--into", tmp_path / "in" / "back", "--json")
    assert ran.status == 1
    back = tmp_path / "in" / "back"
    assert (back / "rope.txt").read_text() == "twenty metres\n", "under the name it has in the chest"
    assert os.readlink(back / "inward") == "rope.txt"
    assert (
        sorted(p.name for p in tmp_path.iterdir() if p.name in ("escaped", "absolute", "planted", "owned.txt")) == []
    )
    assert sorted(p.name for p in (tmp_path / "in").iterdir()) == ["back"]
    whys = {n["path"]: n["why"] for n in ran.json["libraries"][0]["not_restored"]}
    assert set(whys) == {
        "../escaped", str(tmp_path / "absolute"), "../../planted", "../../owned.txt", "out1", "rafters/out2",
    }  # fmt: skip
    assert "--allow-outside-links" in whys["out1"]
    assert not (back / "out1").is_symlink()
    assert command("restore", chest.folder, "shed", "--into", tmp_path / "b2", "--allow-outside-links").status == 1
    assert os.readlink(tmp_path / "b2" / "out1") == "/etc/passwd"


def test_own_outward_links_come_back_on_the_machine_that_made_them(
    library: Path, chest: dunechest.Chest, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    (library / "to the world").symlink_to("/usr/share")
    dunechest.archive([library], chest)
    dunechest.restore(chest, "shed", dunechest.RestoreOptions(into=str(tmp_path / "here")))
    assert facts(tmp_path / "here") == facts(library)
    monkeypatch.setenv("DUNECHEST_HOME", str(tmp_path / "another-machine"))
    result = dunechest.restore(chest, "shed", dunechest.RestoreOptions(into=str(tmp_path / "there")))
    assert [(n.path, n.fault) for n in result.not_restored] == [("to the world", False)]
    assert result.ok


def test_a_file_through_a_planted_link_is_not_read(library: Path, chest: dunechest.Chest, tmp_path: Path) -> None:
    dunechest.archive([library], chest)
    data = bag_of(chest, "shed") / "data" / "library"
    outside = tmp_path / "outside"
    shutil.copytree(data / "rafters", outside)
    shutil.rmtree(data / "rafters")
    (data / "rafters").symlink_to(outside)
    result = dunechest.restore(chest, "shed", dunechest.RestoreOptions(into=str(tmp_path / "back")))
    assert not result.ok
    assert not (tmp_path / "back" / "rafters" / "oar.txt").exists()
    assert not dunechest.verify(chest).ok


def test_a_place_in_the_home_that_leads_elsewhere_is_not_believed(
    tampered: Callable[[Edit], dunechest.Chest], own_machine: Path, command: Command
) -> None:
    for relative in ("../../etc", "/etc", "a/../../b", ""):

        def edit(record: dict[str, Any], relative: str = relative) -> None:
            record["origin"]["standard"] = "pictures"
            record["origin"]["relative"] = relative

        ran = command("restore", tampered(edit).folder, "shed", "--plan")
        assert ran.status == 3
        assert "no-place" in ran.out


def test_escape_codes_reach_no_terminal(tmp_path: Path, chest: dunechest.Chest, command: Command) -> None:
    library = tmp_path / "lib\x1b[2J"
    library.mkdir()
    os.mkfifo(library / "p\x1b]0;owned\x07\u202e")
    (library / "f\nnext line").write_text("x")
    for words in (
        ("look", library),
        ("archive", library, "--to", chest.folder, "--plan"),
        ("archive", library, "--to", chest.folder),
        ("verify", chest.folder),
        ("chest", "show", chest.folder),
        ("restore", chest.folder, "lib-2j", "--into", tmp_path / "b\x1b[5m"),
        ("restore", chest.folder, "no\x1b[31m"),
        ("find", "no\x1b[31m"),
        ("verify", chest.folder, "--json"),
    ):
        ran = command(*words)
        assert "\x1b" not in ran.out + ran.err
        assert "\u202e" not in ran.out + ran.err
    (tmp_path / "x").mkdir()
    for made in ("2026-11-24T00:00:00Z", "now\x1b[0m"):
        hostile = {"format": 1, "id": "0" * 32, "label": "red\x1b[31m", "made": made}
        (chest.folder / "chest.json").write_bytes(msgspec.json.encode(hostile))
        reseal_chest(chest.folder)
        ran = command("chest", "show", chest.folder)
        assert ran.status == (1 if "\x1b" in made else 0)
        assert "\x1b" not in ran.out + ran.err
    for text in (chest.folder / "bags").rglob("*.txt"):
        assert b"\x1b" not in text.read_bytes().replace(b"lib\x1b[2J", b"") or text.name.startswith("manifest")


@pytest.mark.parametrize(
    "content", [b"", b"[", b"{}", b"\xff\xfe", b'{"format":1}', b"[" * 200_000, b'{"format":1e400}']
)
def test_a_torn_library_record_leaves_files_that_come_back(
    content: bytes, library: Path, chest: dunechest.Chest, tmp_path: Path, command: Command
) -> None:
    dunechest.archive([library], chest)
    (bag_of(chest, "shed") / "dune" / "library.json").write_bytes(content)
    ran = command("restore", chest.folder, "shed")
    assert ran.status == 3
    assert "data" in ran.err
    assert command("restore", chest.folder, "shed", "--into", tmp_path / "as files").status == 1
    assert (tmp_path / "as files" / "rafters" / "oar.txt").read_text() == "two of them\n"
    assert command("restore", chest.folder, "shed", "--into", tmp_path / "b", "--edition", "1").status == 2
    assert command("verify", chest.folder).status == 1
    assert command("chest", "show", chest.folder).status == 1


@given(st.text(max_size=60))
def test_shown_text_cannot_act(text: str) -> None:
    safe = shown(text)
    assert not any(ord(c) < 32 or 0x7F <= ord(c) < 0xA0 or 0xD800 <= ord(c) < 0xE000 for c in safe)
    safe.encode()


@given(st.text(max_size=40))
def test_a_path_called_safe_stays_inside(path: str) -> None:
    if why_unsafe(path) is None:
        full = os.path.normpath(os.path.join("/top", path))
        assert full.startswith(os.path.normpath("/top") + os.sep)


@given(st.lists(st.sampled_from(["a", "..", ".", "b", ""]), max_size=6), st.integers(0, 3))
def test_leads_out_agrees_with_the_system(pieces: list[str], depth: int) -> None:
    target = "/".join(pieces) or "."
    link = "/".join(["d"] * depth + ["link"])
    inside = os.path.normpath("/top/" + os.path.dirname(link) + "/" + target) + "/"
    if target.startswith("/") or not inside.startswith("/top/"):
        assert leads_out(link, target)


names = st.binary(min_size=1, max_size=30).filter(lambda n: b"/" not in n and b"\0" not in n).map(os.fsdecode)


@given(st.sets(names, min_size=1, max_size=15), st.sampled_from(["ext4", "apfs", "exfat", "vfat", "who-knows"]))
@settings(max_examples=100)
def test_stored_names_fit_the_drive_and_never_meet(some: set[str], kind: str) -> None:
    limits = limits_of(kind)
    stored = StoredNames(limits)
    results = [stored.file(name) for name in sorted(some)]
    folded = {r if limits.tells_case else r.casefold() for r in results}
    assert len(folded) == len(some)
    for name, result in zip(sorted(some), results, strict=True):
        result.encode()
        assert limits.forbidden.isdisjoint(result)
        units = len(result.encode()) if limits.unit == "bytes" else len(result.encode("utf-16-le")) // 2
        assert 0 < units <= 255
        assert stored.changed.get(name, name) == result


def test_names_that_differ_only_in_case_both_survive() -> None:
    stored = StoredNames(Limits(tells_case=False))
    stored.folders(["", "Sea", "sea"])
    first, second = stored.file("Sea/Tern"), stored.file("sea/tern")
    assert first.casefold() != second.casefold()
    assert stored.file("sea/TERN").casefold() not in (first.casefold(), second.casefold())
