"""Archive, verify, restore: what went in comes out exactly, whatever it is called."""

from __future__ import annotations

import os
import socket
import subprocess
import tempfile
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import dunechest
from dunechest.bag.bag import read_bag
from tests.support.runs import Command
from tests.support.trees import bag_of, facts, sha512sum

NASTY = [
    b"plain.txt",
    b"with space.txt",
    b"new\nline.txt",
    b"car\rriage.txt",
    b"fifty%.txt",
    b"%0Anot a line break.txt",
    "gr\u00fcn composed.txt".encode(),
    "gru\u0308n decomposed.txt".encode(),
    b"-rf",
    b"--help",
    b" leading and trailing ",
    b"trailing dot.",
    b"CON",
    b"nul.txt",
    b"caf\xe9 latin.txt",
    b"\xff\xfe",
    b"back\\slash",
    b"quote\"and'quote",
    b"colon:star*question?",
    b"\x1b[31mred",
    b"\xe2\x80\xaereversed",
    b"UPPER.txt",
    b"upper.txt",
    b"*data",
    b"x" * 255,
    b".hidden",
    b"a\tb",
]


def test_a_nasty_tree_comes_back_exactly(nasty: Path, chest: dunechest.Chest, tmp_path: Path) -> None:
    before = facts(nasty)
    (account,) = dunechest.archive([nasty], chest)
    assert account.ok
    assert account.archived_count == account.found_count
    assert facts(nasty) == before, "archiving changes nothing in the library"
    assert dunechest.verify(chest).ok
    back = tmp_path / "back"
    result = dunechest.restore(chest, "nasty-tree", dunechest.RestoreOptions(into=str(back)))
    assert result.ok
    assert facts(back) == before
    assert (back / "program").stat().st_ino == (back / "deep" / "same program").stat().st_ino


def test_the_bag_is_one_for_every_tool(nasty: Path, chest: dunechest.Chest) -> None:
    dunechest.archive([nasty], chest)
    bag = read_bag(bag_of(chest, "nasty-tree"))
    assert bag.problems == []
    listed = set(bag.payload[0].entries)
    there = {
        f"data/{p.relative_to(bag.folder / 'data').as_posix()}"
        for p in (bag.folder / "data").rglob("*")
        if p.is_file()
    }
    assert listed == there
    payload = [p for p in (bag.folder / "data").rglob("*") if p.is_file()]
    assert bag.oxum == (sum(p.stat().st_size for p in payload), len(payload))
    # Only names with a line break or percent sign are beyond sha512sum.
    complaints = sha512sum(bag.folder).stderr
    assert complaints.count("No such file") == 4


def test_sha512sum_agrees(library: Path, chest: dunechest.Chest) -> None:
    dunechest.archive([library], chest)
    assert sha512sum(bag_of(chest, "shed")).returncode == 0


@st.composite
def trees(draw: st.DrawFn) -> dict[bytes, bytes | None]:
    """Names to contents; None is an empty folder."""
    name = st.binary(min_size=1, max_size=12).filter(
        lambda n: b"/" not in n and b"\0" not in n and n not in (b".", b"..")
    )
    content = st.none() | st.binary(max_size=200) | st.just(b"x" * 70_001)
    return draw(st.dictionaries(st.lists(name, min_size=1, max_size=3).map(b"/".join), content, max_size=12))


@given(trees())
@settings(max_examples=14)
def test_any_tree_comes_back(tree: dict[bytes, bytes | None]) -> None:
    with tempfile.TemporaryDirectory() as folder:
        top = Path(folder)
        base = os.fsencode(top / "lib")
        os.makedirs(base)
        for name, content in tree.items():
            path = os.path.join(base, name)
            try:
                if content is None:
                    os.makedirs(path, exist_ok=True)
                else:
                    os.makedirs(os.path.dirname(path), exist_ok=True)
                    with open(path, "wb") as file:
                        file.write(content)
            except OSError:
                continue  # one name is a file here and a folder there
        (top / "drive").mkdir()
        chest = dunechest.Chest.create(top / "drive", "blue")
        (account,) = dunechest.archive([top / "lib"], chest)
        assert account.ok
        assert dunechest.verify(chest).ok
        dunechest.restore(chest, "lib", dunechest.RestoreOptions(into=str(top / "back")))
        assert facts(top / "back") == facts(top / "lib")


def test_a_single_file(tmp_path: Path, chest: dunechest.Chest, command: Command) -> None:
    file = tmp_path / "logbook.odd"
    file.write_text("one file")
    assert command("archive", file, "--to", chest.folder).status == 0
    ran = command("restore", chest.folder, "logbook-odd", "--into", tmp_path / "desk")
    assert ran.status == 0
    assert (tmp_path / "desk" / "logbook.odd").read_text() == "one file"
    assert command("restore", chest.folder, "logbook-odd", "--into", tmp_path / "desk").status == 3


def test_sockets_and_pipes_are_named_and_left_out(library: Path, chest: dunechest.Chest, tmp_path: Path) -> None:
    os.mkfifo(library / "pipe")
    sock = socket.socket(socket.AF_UNIX)
    sock.bind(str(library / "socket"))
    (account,) = dunechest.archive([library], chest)
    sock.close()
    assert account.ok
    assert {(o.path, o.why.split(":")[0]) for o in account.left_out} == {("pipe", "a pipe"), ("socket", "a socket")}
    assert account.found_count == account.archived_count + 2
    frame = account.to_frame()
    assert list(frame["path"]) == ["pipe", "socket"]


@pytest.mark.slow
def test_many_files_and_a_large_one_by_helper_processes(tmp_path: Path, chest: dunechest.Chest) -> None:
    place = tmp_path / "many"
    for number in range(900):
        folder = place / f"{number % 7}"
        folder.mkdir(parents=True, exist_ok=True)
        (folder / f"{number}").write_bytes(os.urandom(number))
    for size in (65_536, 65_537, 500_000, 4 << 20, (4 << 20) + 1, 70_000_001):
        (place / f"large {size}").write_bytes(os.urandom(size))
    steps: list[dunechest.model.Step] = []
    (account,) = dunechest.archive([place], chest, progress=steps.append)
    assert account.ok
    copied = [step for step in steps if step.stage == "copying"][-1]
    assert copied.done_count == copied.total_count == 906
    assert copied.done_bytes == copied.total_bytes == account.archived_bytes
    done = [step.done_bytes for step in steps if step.stage == "copying"]
    assert done == sorted(done)
    assert sha512sum(bag_of(chest, "many")).returncode == 0
    assert dunechest.verify(chest).ok
    dunechest.restore(chest, "many", dunechest.RestoreOptions(into=str(tmp_path / "back")))
    assert subprocess.run(["diff", "-r", place, tmp_path / "back"], check=False).returncode == 0
    victim = bag_of(chest, "many") / "data" / "library" / "large 70000001"
    with victim.open("r+b") as file:
        file.seek(69_999_999)
        file.write(b"\0\1")
    (state,) = dunechest.verify(chest).libraries[0].problems
    assert state.path == "data/library/large 70000001"


def test_two_names_for_one_library_and_two_libraries_in_one_run(
    library: Path, tmp_path: Path, chest: dunechest.Chest, command: Command
) -> None:
    other = tmp_path / "barn"
    other.mkdir()
    (other / "lamp").write_text("oil")
    ran = command("archive", library, other, "--to", chest.folder, "--json")
    assert [a["archived_as"] for a in ran.json["libraries"]] == ["shed", "barn"]
    assert command("archive", library, "--to", chest.folder, "--as", "shed-2").status == 0
    assert {entry.name for entry in chest.bags()} == {"shed", "shed-2", "barn"}


def test_everything_is_the_same_again(library: Path, chest: dunechest.Chest, command: Command) -> None:
    command("archive", library, "--to", chest.folder)
    before = facts(chest.folder)
    ran = command("archive", library, "--to", chest.folder)
    assert ran.status == 0
    assert "Unchanged: shed" in ran.out
    assert {k: v for k, v in facts(chest.folder).items() if b"in-use" not in k and k != b"."} == {
        k: v for k, v in before.items() if b"in-use" not in k and k != b"."
    }


def test_one_of_several_bags_that_is_just_so_is_enough(library: Path, chest: dunechest.Chest) -> None:
    dunechest.archive([library], chest)
    (library / "rope.txt").write_text("shorter\n")
    dunechest.archive([library], chest, dunechest.ArchiveOptions(name="shed-2"))
    (account,) = dunechest.archive([library], chest)
    assert (account.archived_as, account.state) == ("shed-2", "unchanged")
    (library / "rope.txt").write_text("shorter still\n")
    (account,) = dunechest.archive([library], chest)
    assert (account.archived_as, account.edition) == ("shed-2", 2), "the newest of them goes on"
    (account,) = dunechest.archive([library], chest, dunechest.ArchiveOptions(name="shed"))
    assert (account.archived_as, account.edition) == ("shed", 2)


def test_another_library_of_the_same_name_is_refused(library: Path, tmp_path: Path, chest: dunechest.Chest) -> None:
    dunechest.archive([library], chest)
    other = tmp_path / "elsewhere" / "shed"
    other.mkdir(parents=True)
    (other / "x").write_text("x")
    with pytest.raises(dunechest.RefusedError) as refusal:
        dunechest.archive([other], chest)
    assert refusal.value.findings[0].code == "name-taken"
    dunechest.archive([other], chest, dunechest.ArchiveOptions(name="other-shed"))


def test_the_plan_says_all_and_writes_nothing(library: Path, chest: dunechest.Chest, command: Command) -> None:
    os.mkfifo(library / "pipe")
    before = facts(chest.folder)
    ran = command("archive", library, "--to", chest.folder, "--plan", "--json")
    assert ran.status == 0
    (plan,) = ran.json["libraries"]
    assert plan["state"] == "new"
    assert plan["found_count"] == 4
    assert {f["path"] for f in plan["files"]} == {"rope.txt", "rafters/oar.txt", "rafters/big.bin"}
    assert plan["left_out"] == [{"path": "pipe", "size_bytes": 0, "why": "a pipe: it holds no bytes", "fault": False}]
    assert facts(chest.folder) == before
    ran = command("archive", library, "--to", chest.folder, "--plan")
    assert "nothing was written" in ran.out


def test_a_real_tree_that_nobody_here_wrote(tmp_path: Path, chest: dunechest.Chest) -> None:
    import email

    tree = Path(email.__file__).parent
    dunechest.archive([tree], chest, dunechest.ArchiveOptions(name="a-real-tree"))
    assert sha512sum(bag_of(chest, "a-real-tree")).returncode == 0
    dunechest.restore(chest, "a-real-tree", dunechest.RestoreOptions(into=str(tmp_path / "back")))
    assert subprocess.run(["diff", "-r", tree, tmp_path / "back"], check=False).returncode == 0


def test_home_is_where_it_goes_without_being_told(own_machine: Path, chest: dunechest.Chest, tmp_path: Path) -> None:
    library = own_machine / "Pictures" / "Herons"
    library.mkdir(parents=True)
    (library / "heron.txt").write_text("grey")
    hidden = own_machine / ".config" / "odd"
    hidden.mkdir(parents=True)
    (hidden / "settings").write_text("x=1")
    dunechest.archive([library, hidden], chest)
    other = tmp_path / "someone-else"
    (other / ".config").mkdir(parents=True)
    (other / ".config" / "user-dirs.dirs").write_text('XDG_PICTURES_DIR="$HOME/Bilder"\n')
    assert (
        dunechest.restore(chest, "herons", dunechest.RestoreOptions(home=str(other))).path
        == other / "Bilder" / "Herons"
    )
    assert (
        dunechest.restore(chest, "odd", dunechest.RestoreOptions(home=str(other))).path == other / ".config" / "odd"
    )
    with pytest.raises(dunechest.UsageError, match="no folder"):
        dunechest.restore(chest, "herons", dunechest.RestoreOptions(home=str(tmp_path / "mistyped")))
    assert not (tmp_path / "mistyped").exists()
    with pytest.raises(dunechest.RefusedError) as refusal:
        dunechest.restore(chest, "herons")
    assert refusal.value.findings[0].code == "occupied"
