"""What the pages of docs/how-to say, done word by word on the sample world."""

from __future__ import annotations

import os
import re
import shlex
import shutil
from collections.abc import Iterator
from pathlib import Path

import pytest

import dunechest
from dunechest.demo.applications import APPLICATIONS
from dunechest.demo.world import World
from dunechest.machine.schedulers.cron import Cron
from tests.support.runs import Command
from tests.support.trees import bag_of, facts, flip

PAGES = Path(__file__).resolve().parents[2] / "docs" / "how-to"


def section(page: str, title: str = "") -> Iterator[list[str]]:
    """Yield the commands of a page, or of one part of it."""
    text = (PAGES / page).read_text(encoding="utf-8")
    parts = re.split(r"^#+ (.*)$", text, flags=re.MULTILINE)
    titles = dict(zip(parts[1::2], parts[2::2], strict=True))
    body = titles[title] if title else next(iter(titles.values()))
    for block in re.findall(r"```sh\n(.*?)```", body, re.DOTALL):
        for line in block.splitlines():
            words = shlex.split(line, comments=True)
            assert words[0] == "dunechest"
            yield words[1:]


@pytest.fixture
def media(world: World, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> dict[str, Path]:
    """Drives, where the pages have them mounted; on the office computer."""
    places = {f"/media/{name}": tmp_path / "media" / name for name in ("blue", "sand", "shell", "harbour")}
    for place in places.values():
        place.mkdir(parents=True)
    environment = world.environment("office-pc")
    monkeypatch.setenv("HOME", environment["HOME"])
    monkeypatch.setenv("DUNECHEST_HOME", environment["DUNECHEST_HOME"])
    monkeypatch.setenv("DUNECHEST_DRIVES", os.pathsep.join(map(str, places.values())))
    return places


def follow(command: Command, media: dict[str, Path], steps: Iterator[list[str]]) -> None:
    """Do what a page says; only `status` may find something to do."""
    for words in steps:
        ran = command(*(str(media.get(word, word)) for word in words))
        assert ran.status in ((0, 1) if words[0] == "status" else (0,)), (words, ran.out, ran.err)


def begin(command: Command, media: dict[str, Path], world: World, **drives: list[Path]) -> None:
    assert command("find", world.office_home).status == 0
    for label, libraries in drives.items():
        assert command("chest", "new", media[f"/media/{label}"], "--label", label).status == 0
        assert not libraries or command("archive", *libraries, "--to", label).status == 0


def test_moving_to_a_bigger_drive(world: World, media: dict[str, Path], command: Command, tmp_path: Path) -> None:
    begin(command, media, world, blue=[world.papers, world.notes, world.photos])
    first = facts(world.papers)
    (world.papers / "later.txt").write_text("later")
    command("archive", "marram-papers", "--to", "blue")
    follow(command, media, section("bigger-drive.md"))
    held = [
        dunechest.list_editions(media[f"/media/{name}"], "marram-papers").editions for name in ("blue", "harbour")
    ]
    assert [[edition.edition for edition in own] for own in held] == [[1, 2], [1, 2]]
    command("restore", media["/media/harbour"], "marram-papers", "--edition", "1", "--into", tmp_path / "back")
    assert facts(tmp_path / "back").keys() == first.keys()
    labels = {chest.label: chest.path.parent for chest in dunechest.list_chests().chests}
    assert labels == {"blue": media["/media/harbour"], "old-blue": media["/media/blue"]}
    (world.papers / "last.txt").write_text("last")
    command("archive", "marram-papers", "--to", "blue")
    assert len(dunechest.list_editions(media["/media/harbour"], "marram-papers").editions) == 3


def test_a_drive_that_died(world: World, media: dict[str, Path], command: Command) -> None:
    begin(command, media, world, blue=[world.photos, world.papers, world.notes], sand=[world.photos])
    shutil.rmtree(media["/media/blue"])
    follow(command, media, section("dead-drive.md"))
    document = command("status", "--json").json
    states = {item["name"]: item["good_copy_count"] for item in document["libraries"]}
    assert states == {"dune-survey": 2, "marram-papers": 2, "tidewrack": 2}


def test_a_drive_that_can_be_read_in_part(world: World, media: dict[str, Path], command: Command) -> None:
    begin(command, media, world, blue=[world.photos, world.notes], sand=[world.photos])
    assert command("chest", "new", media["/media/shell"], "--label", "shell").status == 0
    bag = bag_of(dunechest.get_chest("blue"), "dune-survey")
    pictures = sorted((bag / "data").rglob("*.jpg"))
    flip(pictures[2])
    pictures[4].unlink()
    follow(command, media, section("dead-drive.md", "The drive can still be read, in part"))
    assert dunechest.verify("shell").ok
    assert command("compare", "sand", "shell").out.count("same") == 1


def test_the_computer_died_too(
    world: World, media: dict[str, Path], command: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    begin(command, media, world, sand=[world.photos])
    for name in ("HOME", "DUNECHEST_HOME"):
        monkeypatch.setenv(name, world.environment("new-laptop")[name])
    shutil.rmtree(world.folder / "office-pc")
    follow(command, media, section("dead-drive.md", "The computer died too"))


def test_more_than_one_copy(
    world: World, media: dict[str, Path], command: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.chdir(world.folder)
    begin(command, media, world, blue=[world.papers], sand=[])
    (world.papers / "papers.files" / "ring counts.txt").write_text("seventeen terns")
    (world.office_home / "Desktop" / "picture.jpg").write_bytes(next(world.photos.rglob("*.jpg")).read_bytes())
    text = (PAGES / "copies.md").read_text()
    for title in re.findall(r"^## (.*)$", text, re.MULTILINE):
        for words in section("copies.md", title):
            ran = command(*(word.replace("~", str(world.office_home)) for word in words))
            # Some of these look for what this small world has not got.
            allowed = (0, 1) if words[0] in ("status", "report", "search", "compare") else (0,)
            assert ran.status in allowed, (words, ran.out, ran.err)


def test_when_the_disk_is_full(world: World, media: dict[str, Path], command: Command) -> None:
    own = world.games.rename(world.office_home / "Winter Games")
    APPLICATIONS["cuttlebone"](world.office_home).point_to(own)
    begin(command, media, world, blue=[], sand=[])
    before = facts(own).keys()
    page = "full-disk.md"
    follow(command, media, section(page, "The application goes on with its library on a drive"))
    assert facts(own).keys() == before
    follow(command, media, section(page, "The library is kept in chests alone"))
    assert not world.sounds.exists()
    command("archive", "sign-shop", "--to", "blue", "--to", "sand")
    follow(command, media, section(page, "A title, a project, an album"))
    # The drive goes missing, and comes back.
    sand = media["/media/sand"]
    assert command("rehome", "winter-games", "--to", sand, "--reclaim", "--yes").status == 0
    drawer = sand.rename(sand.with_name("drawer"))
    (own / "titles").mkdir(parents=True)
    (own / "titles" / "new.txt").write_text("made without the drive")
    drawer.rename(sand)
    rejoin, forget = section(page, "The drive was missing")
    follow(command, media, iter([rejoin]))
    assert (sand / "Winter Games" / "titles" / "new.txt").is_file() and not own.exists()
    sand.rename(sand.with_name("lost"))
    follow(command, media, iter([forget]))
    assert dunechest.places.list_homes() == ()


def test_every_night_by_itself(
    world: World, media: dict[str, Path], command: Command, table: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("dunechest.machine.schedulers.usual_scheduler", Cron)
    begin(command, media, world, blue=[], sand=[])
    page = "by-itself.md"
    follow(command, media, section(page, "Make a routine"))
    assert {entry.name for entry in dunechest.get_chest("blue").bags()} == {"marram-papers", "tidewrack"}
    for title in ("What it does besides", "When something is wrong", "Change or remove it"):
        follow(command, media, section(page, title))
    assert [state.name for state in dunechest.routines.list_routines()] == ["calm", "sundays", "tidy", "told"]
    assert table.read_text().count(": begin") == 4
    for name in ("calm", "sundays", "tidy", "told"):
        assert command("routine", "remove", name).status == 0
    assert not table.exists()
    follow(command, media, section(page, "May I unplug it now?"))
