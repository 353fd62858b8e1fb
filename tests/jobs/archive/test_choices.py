"""What is included and what is not: parts, outside files, roles, placeholders; and what the bag says of it."""

from __future__ import annotations

import json
import os
import shutil
import sqlite3
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

import dunechest
from dunechest.demo.applications import APPLICATIONS
from dunechest.demo.world import World
from dunechest.model.study import Choice
from dunechest.transfer import _placeholder_linux, _placeholder_macos, _placeholder_windows
from dunechest.transfer.walk import walk
from dunechest.words import size as in_words
from tests.support import burrow
from tests.support.burrow import make, refer
from tests.support.runs import Command
from tests.support.trees import bag_of, facts, sha512sum
from tests.support.worlds import Move


def record_of(chest: dunechest.Chest, name: str) -> dict[str, Any]:
    found: dict[str, Any] = json.loads((bag_of(chest, name) / "dune" / "library.json").read_text())
    return found


def stored(chest: dunechest.Chest, name: str) -> set[str]:
    data = bag_of(chest, name) / "data"
    return {path.relative_to(data).as_posix() for path in data.rglob("*") if path.is_file()}


# Parts.


def test_look_lists_parts_with_counts_and_sizes(pristine: World, command: Command) -> None:
    seen = command("look", pristine.photos, "--json").library
    albums = {part["name"]: part for part in seen["parts"]}
    assert set(albums) == {"Before and after", "For the wall", "Terns"}
    with closing(sqlite3.connect(pristine.photos / "catalogue.glw")) as catalogue:
        for title, part in albums.items():
            rows = catalogue.execute(
                "SELECT folder.path, picture.name FROM album JOIN album_picture ON album.id = album_picture.album "
                "JOIN picture ON picture.id = album_picture.picture JOIN folder ON folder.id = picture.folder "
                "WHERE album.title = ?", (title,),
            ).fetchall()  # fmt: skip
            paths = {Path(folder) / name for folder, name in rows}
            inside = {p for p in paths if p.is_relative_to(pristine.photos)}
            sidecars = {p.with_suffix(".xmp") for p in inside}
            assert part["outside_paths"] == sorted(str(p) for p in paths - inside)
            assert part["file_count"] == len(inside | sidecars)
            assert part["size_bytes"] == sum(p.stat().st_size for p in paths | sidecars)
            assert part["needed_paths"] == ["catalogue.glw"]
    frame = dunechest.look(pristine.photos).to_frame("parts")
    assert list(frame["title"]) == sorted(albums)
    assert "album" in command("look", pristine.photos).out


def test_a_part_takes_its_files_its_outside_files_what_it_needs_and_nothing_else(
    world: World, on_machine: Move, command: Command
) -> None:
    on_machine("office-pc")
    chest = dunechest.Chest.create(world.blue, "blue")
    (part,) = [p for p in dunechest.look(world.sounds).parts if p.title == "For the boat"]
    ran = command("archive", world.sounds, "--part", "for the boat", "--to", world.blue, "--json")
    assert ran.status == 0
    (account,) = ran.json["libraries"]
    assert account["found_count"] == account["archived_count"] + len(account["left_out"])
    bag = account["archived_as"]
    assert bag == "shore-recordings-for-the-boat"
    names = {f"library/{path}" for path in (*part.files, *part.needed_paths)}
    assert {n for n in stored(chest, bag) if n.startswith("library/")} == names
    assert len(stored(chest, bag)) == len(names) + len(part.outside_paths)
    record = record_of(chest, bag)
    assert record["partial"] == ["For the boat"]
    how_to = (bag_of(chest, bag) / "HOW-TO-RESTORE.txt").read_text()
    assert "ONLY A PART:     For the boat" in how_to
    assert sha512sum(bag_of(chest, bag)).returncode == 0
    assert dunechest.verify(chest).ok
    ran = command("restore", "blue", bag, "--into", world.folder / "back")
    assert ran.status == 0
    assert "only a part" in ran.out
    assert (
        command("archive", world.sounds, "--part", "for the boat", "--to", "blue", "--json").library["state"]
        == "unchanged"
    )


@pytest.mark.parametrize(
    ("library", "part", "application"),
    [("film", "Storm", "spindrift"), ("games", "Lanternfish", "cuttlebone"), ("handsets", "Tern's handset", "limpet"),
     ("designs", "Café Strandläufer", "saltpan"), ("papers", "Sand", "seaholly")],
)  # fmt: skip
def test_a_part_alone_opens_in_its_application(
    library: str, part: str, application: str, world: World, on_machine: Move, tmp_path: Path
) -> None:
    on_machine("office-pc")
    place: Path = getattr(world, library)
    chest = dunechest.Chest.create(world.blue, "blue")
    (account,) = dunechest.archive([place], chest, dunechest.ArchiveOptions(choice=Choice(parts=(part,))))
    assert account.ok
    every = {file.path for file in walk(str(place)).files}
    assert {
        n.removeprefix("library/") for n in stored(chest, account.archived_as) if n.startswith("library/")
    } < every
    home = tmp_path / "elsewhere"
    dunechest.restore(chest, account.archived_as, dunechest.RestoreOptions(into=str(home / "lib")))
    keeper = APPLICATIONS[application](home)
    keeper.point_to(home / "lib")
    (item,) = [p for p in dunechest.look(place).parts if p.title == part]
    with keeper.open() as opened:
        # The index may name more than the part; what it names of the part is there.
        names = {Path(path).name for path in item.files}
        assert not [m for m in opened.missing if Path(m).name in names and application != "saltpan"]


def test_several_parts_and_a_part_that_is_not_there(world: World, command: Command) -> None:
    command("chest", "new", world.blue, "--label", "blue")
    ran = command("archive", world.film, "--part", "Storm", "--part", "project:Quiet Water", "--to", "blue", "--json")
    assert ran.status == 0
    chest = dunechest.Chest.open(world.blue)
    assert sorted(record_of(chest, ran.library["archived_as"])["partial"]) == ["Quiet Water", "Storm"]
    ran = command("archive", world.film, "--part", "Calm", "--to", "blue")
    assert ran.status == 2
    assert "project 'Storm'" in ran.err
    ran = command("archive", world.notes, "--part", "Calm", "--to", "blue")
    assert (ran.status, "no parts" in ran.err) == (2, True)


def test_links_and_empty_folders_of_a_part_come_along(world: World, chest: dunechest.Chest, tmp_path: Path) -> None:
    title = world.games / "titles" / "lanternfish"
    (title / "saves").mkdir()
    (title / "latest").symlink_to("saves")
    (world.games / "titles" / "other empty").mkdir()
    (account,) = dunechest.archive(
        [world.games], chest, dunechest.ArchiveOptions(choice=Choice(parts=("Lanternfish",)))
    )
    dunechest.restore(chest, account.archived_as, dunechest.RestoreOptions(into=str(tmp_path / "back")))
    assert (tmp_path / "back" / "titles" / "lanternfish" / "saves").is_dir()
    assert os.readlink(tmp_path / "back" / "titles" / "lanternfish" / "latest") == "saves"
    assert not (tmp_path / "back" / "titles" / "other empty").exists()


# Strays.


def test_an_outside_file_is_gathered_once_however_often_it_is_named(
    tmp_path: Path, chest: dunechest.Chest, command: Command
) -> None:
    library = make(tmp_path)
    for folder in ("desk", "desk/desk"):
        (tmp_path / "documents" / folder).mkdir()
        (tmp_path / "documents" / folder / "dune.map").write_text(f"in {folder}")
    for _ in range(20):
        refer(library, "../desk/dune.map")
    (library / "walks" / "long.m3u8").write_text("../../desk/dune.map\n../../desk/desk/../desk/dune.map\n")
    (library / "shortcut").symlink_to("../desk/dune.map")
    ran = command("archive", library, "--to", chest.folder, "--json")
    assert ran.status == 0
    assert ran.library["outside_count"] == 2
    outside_files = {item["path"]: item for item in record_of(chest, "burrow")["outside_files"]}
    first = outside_files[str(tmp_path / "documents" / "desk" / "dune.map")]
    assert len(first["references"]) == 22, "twenty rows, a line of the playlist, a link"
    assert {r["source"] for r in first["references"]} == {"index.bur", "walks/long.m3u8", "shortcut"}
    for path, item in outside_files.items():
        assert (bag_of(chest, "burrow") / "data" / item["stored"]).read_bytes() == Path(path).read_bytes()
    assert len({item["stored"] for item in outside_files.values()}) == 2
    assert dunechest.verify(chest).ok


def test_outside_files_that_stay_are_counted_as_not_protected(
    tmp_path: Path, chest: dunechest.Chest, command: Command
) -> None:
    library = make(tmp_path)
    (tmp_path / "dune.map").write_text("loose")
    refer(library, tmp_path / "dune.map")
    ran = command("archive", library, "--without-outside-files", "--to", chest.folder)
    assert ran.status == 0
    assert "outside-files-left" in ran.out
    assert "1 file stored elsewhere that this archive does not protect" in ran.out
    record = record_of(chest, "burrow")
    assert record["outside_files"] == []
    assert [item["path"] for item in record["outside_left"]] == [str(tmp_path / "dune.map")]
    assert not (bag_of(chest, "burrow") / "data" / "outside").exists()


def test_an_outside_file_on_a_card_that_is_not_here_is_told_by_its_name(
    world: World, on_machine: Move, command: Command
) -> None:
    on_machine("office-pc")
    shutil.move(world.card, world.folder / "pocket")
    ran = command("look", world.film)
    assert ran.status == 0
    assert "drive-away" in ran.out
    assert "'REED-CARD'" in ran.out
    seen = command("look", world.film, "--json").library
    assert (seen["reference_total"]["missing_count"], seen["reference_total"]["outside_count"]) == (3, 0)
    shutil.move(world.folder / "pocket", world.card)
    assert command("look", world.film, "--json").library["reference_total"]["outside_count"] == 3


def test_nothing_is_gathered_that_a_file_has_no_business_to_name(tmp_path: Path, chest: dunechest.Chest) -> None:
    library = make(tmp_path)
    (tmp_path / ".keys").mkdir()
    (tmp_path / ".keys" / "key").write_text("secret")
    for path in ("/etc/passwd", tmp_path / ".keys" / "key", "/proc/self/environ"):
        refer(library, path)
    (library / "walks" / "bad.m3u8").write_text("file:///etc/passwd\n/dev/zero\n../../../../../../../../etc/passwd\n")
    (account,) = dunechest.archive([library], chest)
    assert (account.ok, account.outside_count) == (True, 0)
    assert all(name.startswith("library/") for name in stored(chest, "burrow"))


# Roles.


@pytest.mark.parametrize(
    ("size", "words", "taken"),
    [(3_000, (), True), (90_000, (), False), (90_000, ("--with-rebuildable",), True), (3_000, ("--without-rebuildable",), False)],
)  # fmt: skip
def test_rebuildable_files_are_taken_when_they_are_small(
    size: int, words: tuple[str, ...], taken: bool, tmp_path: Path, chest: dunechest.Chest, command: Command
) -> None:
    library = make(tmp_path)
    (library / "tiles").mkdir()
    (library / "tiles" / "1.png").write_bytes(b"x" * size)
    seen = command("look", library).out
    assert f"({in_words(size)})" in seen
    assert "% of the space" in seen
    ran = command("archive", library, *words, "--to", chest.folder, "--json")
    assert ran.status == 0
    assert ("library/tiles/1.png" in stored(chest, "burrow")) == taken
    left = {item["path"]: item["why"] for item in ran.library["left_out"]}
    assert left == ({} if taken else {"tiles/1.png": "the application can rebuild it"})


def test_what_may_not_leave_stays_and_is_in_the_account(
    world: World, command: Command, chest: dunechest.Chest
) -> None:
    ran = command("archive", world.designs, "--to", chest.folder, "--json")
    assert ran.status == 0
    left = {item["path"]: item["why"] for item in ran.library["left_out"]}
    bought = {p.relative_to(world.designs).as_posix() for p in (world.designs / "bought").rglob("*") if p.is_file()}
    assert set(left) == bought
    assert all("bought or licensed" in why for why in left.values())
    assert not any("bought" in name for name in stored(chest, "sign-shop"))
    assert "bought" not in (bag_of(chest, "sign-shop") / "manifest-sha512.txt").read_text()


# Placeholders.


def test_placeholders_stop_an_archive_that_may_go_on_without_them_or_fetch_them(
    world: World, on_machine: Move, command: Command, tmp_path: Path
) -> None:
    on_machine("office-pc")
    command("chest", "new", world.blue, "--label", "blue")
    chest = dunechest.Chest.open(world.blue)
    placeholders = {f.path for f in walk(str(world.old_photos)).files if f.placeholder}
    assert len(placeholders) == 2
    before = {path: (world.old_photos / path).stat().st_atime_ns for path in placeholders}
    ran = command("archive", world.old_photos, "--to", "blue", "--json")
    assert (ran.status, ran.json["findings"][0]["code"]) == (3, "placeholders")
    assert chest.bags() == ()
    ran = command("archive", world.old_photos, "--to", "blue", "--ignore", "placeholders", "--json")
    assert ran.status == 1, "not all is intact"
    (account,) = ran.json["libraries"]
    assert {item["path"] for item in account["left_out"]} == placeholders
    record = record_of(chest, "old-dune-survey")
    assert record["incomplete"] is True
    assert {item["path"] for item in record["left_out"]} == placeholders
    assert "INCOMPLETE" in (bag_of(chest, "old-dune-survey") / "HOW-TO-RESTORE.txt").read_text()
    ran = command("restore", "blue", "old-dune-survey", "--into", tmp_path / "without")
    assert "This archive is incomplete" in ran.out
    assert not any((tmp_path / "without" / path).exists() for path in placeholders)
    assert {path: (world.old_photos / path).stat().st_atime_ns for path in placeholders} == before, "none was opened"
    ran = command("archive", world.old_photos, "--to", "blue", "--read-placeholders", "--as", "fetched", "--json")
    assert ran.status == 0
    assert command("restore", "blue", "fetched", "--into", tmp_path / "with", "--keep-paths").status == 0
    back, was = facts(tmp_path / "with"), facts(world.old_photos)
    assert back.pop(b"catalogue.glw")[2:] == was.pop(b"catalogue.glw")[2:], "captured by SQLite"
    assert back == was


def test_no_placeholder_is_opened_by_any_look(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, command: Command
) -> None:
    """Opening one would begin a download: even a database, playlist or sign is left alone."""
    library = make(tmp_path)
    for path in ("maps/south.map", "walks/short.m3u8", "maps/north.xmp"):
        burrow.make_placeholder(library / path)
    for with_index in (False, True):
        if with_index:
            burrow.make_placeholder(library / "index.bur")
        placeholders = {str(library / f.path) for f in walk(str(library)).files if f.placeholder}
        opened: list[str] = []
        for name in ("os.open", "builtins.open", "io.open"):
            module, _, attribute = name.partition(".")
            true = getattr(__import__(module), attribute)

            def watch(path: Any, *rest: Any, true: Any = true, opened: list[str] = opened, **more: Any) -> Any:
                opened.append(os.fsdecode(path) if isinstance(path, (str, bytes, os.PathLike)) else "")
                return true(path, *rest, **more)

            monkeypatch.setattr(name, watch)
        assert command("look", library).status == 3
        command("find", library.parent)
        command("kinds", "draft", library)
        monkeypatch.undo()
        monkeypatch.setenv("HOME", str(tmp_path / "home"))
        monkeypatch.setenv("DUNECHEST_HOME", str(tmp_path / "state"))
        assert opened
        assert not placeholders & set(opened)


def recorded(**facts: int) -> Any:
    return type("Recorded", (), {"st_size": 0, "st_blocks": 0, **facts})()


@pytest.mark.parametrize(
    ("size", "mark", "placeholder"),
    [(250_000, b"0x1020", True), (250_000, b"0x41000\0\0\4", True), (250_000, b"0x20", False), (250_000, b"", False),
     (250_000, b"nonsense", False), (0, b"0x1020", False), (120, b"0x1020", False), (4096, b"0x1020", False),
     (4097, b"0x1020", True)],
)  # fmt: skip
def test_placeholders_on_linux(size: int, mark: bytes, placeholder: bool, tmp_path: Path) -> None:
    """A file without blocks is only a hole; a mark says that its bytes are elsewhere."""
    path = tmp_path / "file"
    with path.open("wb") as file:
        file.truncate(size)
    if mark:
        try:
            os.setxattr(path, "user.DOSATTRIB", mark)
        except OSError:
            pytest.skip("no file can be marked as a placeholder here")
    assert _placeholder_linux.is_placeholder(str(path), path.stat()) == placeholder
    path.write_bytes(b"x" * size)
    assert not _placeholder_linux.is_placeholder(str(path), path.stat())


def test_placeholders_on_macos_and_windows_by_recorded_stat_results() -> None:
    assert _placeholder_macos.is_placeholder("a", recorded(st_size=90_000, st_flags=0x40000060))
    assert not _placeholder_macos.is_placeholder("a", recorded(st_size=90_000, st_blocks=0, st_flags=0x60))
    assert not _placeholder_macos.is_placeholder("a", recorded(st_size=90_000))
    for attributes in (0x00501620, 0x00041020, 0x00001020):
        assert _placeholder_windows.is_placeholder("a", recorded(st_size=90_000, st_file_attributes=attributes))
    for attributes in (0x20, 0x80, 0x220):
        assert not _placeholder_windows.is_placeholder("a", recorded(st_size=90_000, st_file_attributes=attributes))


def test_a_whole_small_file_and_a_true_sparse_one_are_told_apart(tmp_path: Path) -> None:
    (tmp_path / "small").write_text("whole")
    with (tmp_path / "with a hole").open("wb") as file:
        file.seek(1 << 20)
        file.write(b"the end")
    with (tmp_path / "a new image").open("wb") as file:
        file.truncate(1 << 20)
    burrow.leave_name(tmp_path / "gone", 1 << 20)
    assert {f.path: (f.placeholder, f.sparse) for f in walk(str(tmp_path)).files} == {
        "gone": (True, False),
        "small": (False, False),
        "with a hole": (False, True),
        "a new image": (False, True),
    }
