"""A chest is foreign input: whatever is in its files, a restore crashes nothing, leaves nowhere, and says nothing odd."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import hypothesis.strategies as st
import pytest
from hypothesis import given, settings

import dunechest
from tests.support.bags import make_bag
from tests.support.mounts import MAKERS
from tests.support.runs import Command
from tests.support.sealing import reseal, tag_files
from tests.support.trees import bag_of, facts
from tests.support.worlds import Departed

NASTY = [
    b"../../planted",
    b"/tmp/planted",
    b"\x1b[2J\x1b]0;owned\x07",
    b"\xff\xfe",
    b"9" * 400,
    b"-1",
    b"1e999",
    b"null",
    b"[" * 5000,
    b'{"bytes":"/////w=="}',
    b"\0",
    b"C:\\Windows",
    "\u202egpj.exe".encode(),
]


@pytest.fixture(scope="module")
def foreign(departed: Departed, tmp_path_factory: pytest.TempPathFactory) -> Iterator[dunechest.Chest]:
    """A chest of one's own to spoil: papers and games, with an earlier edition."""
    folder = tmp_path_factory.mktemp("foreign")
    shutil.copytree(departed.chest.folder, folder / "dune-chest")
    for bag in (folder / "dune-chest" / "bags").iterdir():
        if bag.name not in ("marram-papers", "shore-recordings"):
            shutil.rmtree(bag)
    yield dunechest.Chest.open(folder)


def spoilt(content: bytes, data: st.DataObject) -> bytes:
    how = data.draw(st.sampled_from(["cut", "put", "swap", "value", "twice", "all"]))
    at = data.draw(st.integers(0, len(content)))
    nasty = data.draw(st.sampled_from(NASTY))
    if how == "cut":
        return content[:at]
    if how == "put":
        return content[:at] + nasty + content[at:]
    if how == "swap":
        end = data.draw(st.integers(at, min(len(content), at + 200)))
        return content[:at] + nasty + content[end:]
    if how == "twice":
        return content + content[at:]
    if how == "all":
        return nasty
    # Within quotes, where it stays JSON: a value of another kind, or one that acts.
    quotes = [place for place, byte in enumerate(content) if byte == 0x22]
    if len(quotes) < 2:
        return nasty
    first = data.draw(st.integers(0, len(quotes) - 2))
    inside = (
        nasty.replace(b"\\", b"\\\\").replace(b"\x1b", b"\\u001b").replace(b'"', b'\\"').replace(b"\0", b"\\u0000")
    )
    return content[: quotes[first] + 1] + inside + content[quotes[first + 1] :]


@pytest.mark.slow
@settings(max_examples=8)
@given(st.data())
def test_whatever_its_files_say(foreign: dunechest.Chest, departed: Departed, data: st.DataObject) -> None:
    from dunechest.cli.app import run

    bag = bag_of(foreign, data.draw(st.sampled_from(["marram-papers", "shore-recordings"])))
    paths = [path for path in sorted(bag.rglob("*")) if path.is_file() and not path.is_relative_to(bag / "data")]
    paths += sorted(bag.glob("data/library/**/*.bib")) + sorted(bag.glob("data/library/**/*.xspf"))
    path = data.draw(st.sampled_from(paths))
    whole = path.read_bytes()
    playground = foreign.folder.parent.parent / "playground"
    shutil.rmtree(playground, ignore_errors=True)
    target = playground / "home" / "target"
    (playground / "home").mkdir(parents=True)
    (playground / "neighbour").write_text("stays")
    try:
        path.write_bytes(spoilt(whole, data))
        before = facts(foreign.folder)
        with pytest.MonkeyPatch.context() as patch:
            patch.setenv("HOME", str(playground / "home"))
            patch.setenv("DUNECHEST_HOME", str(playground / "state"))
            for words in (
                (),
                (bag.name, "--into", target, "--plan"),
                (bag.name, "--into", target),
                ("--all", "--plan"),
            ):
                for form in ((), ("--json",)):
                    out, err = playground / "out", playground / "err"
                    status = _ran(run, ["restore", foreign.folder, *words, *form], out, err)
                    assert status in (0, 1, 2, 3, 4), words
                    said = out.read_bytes() + err.read_bytes()
                    assert b"\x1b" not in said
                    assert b"Traceback" not in said
            _ran(run, ["undo"], out, err)
        assert facts(foreign.folder) == before, "a restore writes nothing in a chest"
        outside = {p.name for p in playground.iterdir()} - {"home", "state", "neighbour", "out", "err"}
        assert outside == set()
        allowed = {"target", "target outside files", "Documents", "Desktop", "Music", ".config"}
        assert {p.name for p in (playground / "home").iterdir()} <= allowed
        assert not Path("/tmp/planted").exists()
    finally:
        path.write_bytes(whole)


def _ran(run: object, words: list[object], out: Path, err: Path) -> int:
    """Run a command in this process with its two outputs in files, as bytes."""
    from dunechest.cli import output

    assert callable(run)
    saved = os.dup(1), os.dup(2)
    old = sys.stdout, sys.stderr
    output._console.cache_clear()
    with out.open("w+b") as first, err.open("w+b") as second:
        os.dup2(first.fileno(), 1)
        os.dup2(second.fileno(), 2)
        sys.stdout, sys.stderr = (open(number, "w", encoding="utf-8", closefd=False) for number in (1, 2))
        try:
            return int(run([str(word) for word in words]))
        finally:
            sys.stdout.flush()
            sys.stderr.flush()
            sys.stdout, sys.stderr = old
            output._console.cache_clear()
            for number, kept in zip((1, 2), saved, strict=True):
                os.dup2(kept, number)
                os.close(kept)


@pytest.mark.parametrize("name", ["dune/files.jsonl", "dune/library.json", "manifest-sha512.txt", "bag-info.txt"])
def test_a_file_made_to_swell_costs_no_more_memory_than_it_has(
    name: str, foreign: dunechest.Chest, tmp_path: Path
) -> None:
    path = bag_of(foreign, "marram-papers") / name
    whole = path.read_bytes()

    def bounded() -> None:
        import resource

        resource.setrlimit(resource.RLIMIT_AS, (1_500_000_000, 1_500_000_000))

    try:
        with path.open("ab") as file:
            file.write(b'{"path":"' + b"a" * (40 << 20))
        words = [sys.executable, "-m", "dunechest", "restore", str(foreign.folder), "marram-papers", "--into"]
        ran = subprocess.run(
            [*words, str(tmp_path / "x")], capture_output=True, text=True, check=False, preexec_fn=bounded, timeout=60
        )
        assert ran.returncode in (0, 1, 3), ran.stderr
        assert "Traceback" not in ran.stderr
        assert len(ran.stdout) + len(ran.stderr) < 20_000
    finally:
        path.write_bytes(whole)


def test_a_chest_that_cannot_be_written_to_gives_all_it_has(
    departed: Departed,
    new_home: Path,
    tmp_path: Path,
    command: Command,
) -> None:
    if os.geteuid() != 0 or shutil.which("mkfs.ext4") is None:
        pytest.skip("mounting an image needs root and mkfs.ext4")
    image, place = tmp_path / "image", tmp_path / "locked drive"
    with image.open("wb") as file:
        file.truncate(96 << 20)
    place.mkdir()
    subprocess.run([*MAKERS["ext4"][0], str(image)], check=True, capture_output=True)
    if subprocess.run(["mount", "-o", "loop", str(image), str(place)], capture_output=True, check=False).returncode:
        pytest.skip("no image can be mounted here")
    try:
        shutil.copytree(departed.chest.folder, place / "dune-chest")
        subprocess.run(["mount", "-o", "remount,ro", str(place)], check=True)
        ran = command("restore", place, "dune-survey", "marram-papers", "--json")
        assert (ran.status, ran.json["ok"]) == (0, True)
        assert command("drill", place, "tidewrack").status == 0
    finally:
        subprocess.run(["umount", str(place)], check=True)


@pytest.mark.parametrize("algorithm", ["md5", "sha1", "sha256", "sha512"])
def test_a_plain_bag_of_somebody_elses_comes_as_files(
    algorithm: str, chest: dunechest.Chest, tmp_path: Path, command: Command
) -> None:
    bag = make_bag(chest.folder / "bags" / "theirs", algorithm)
    words = ("restore", chest.folder, "theirs", "--into")
    assert command("restore", chest.folder, "theirs").status == 3
    ran = command(*words, tmp_path / "one", "--json")
    assert (ran.status, ran.json["libraries"][0]["file_count"]) == (0, 3)
    assert {path.relative_to(tmp_path / "one").as_posix() for path in (tmp_path / "one").rglob("*.txt")} == {
        "one.txt",
        "deep/two.txt",
        "100%.txt",
    }
    (bag / "data" / "one.txt").write_text("content of One.txt")
    (bag / "data" / "deep" / "two.txt").unlink()
    ran = command(*words, tmp_path / "two", "--json")
    assert ran.status == 1
    gone = {item["path"]: item["why"] for item in ran.json["libraries"][0]["not_restored"]}
    assert set(gone) == {"one.txt", "deep/two.txt"}
    (bag / f"manifest-{algorithm}.txt").rename(bag / "manifest-whirl.txt")
    assert command(*words, tmp_path / "three").status == 3


def test_a_record_of_an_old_version_has_less_in_it_and_restores_all_the_same(
    foreign: dunechest.Chest,
    new_home: Path,
    command: Command,
) -> None:

    path = bag_of(foreign, "marram-papers") / "dune" / "library.json"
    bag = bag_of(foreign, "marram-papers")
    before = {item: item.read_bytes() for item in tag_files(bag)}
    record = json.loads(path.read_bytes())
    needed = {"format", "name", "kind", "kind_title", "application", "shape", "origin", "edition", "archived"}
    needed |= {"archived_with", "totals"}
    try:
        path.write_text(json.dumps({key: value for key, value in record.items() if key in needed}))
        reseal(bag)
        ran = command("restore", foreign.folder, "marram-papers", "--json")
        (account,) = ran.json["libraries"]
        assert account["file_count"] == account["listed_count"]
        assert (new_home / "Papers" / "Marram Papers" / "papers.bib").exists()
    finally:
        for item, content in before.items():
            item.write_bytes(content)
