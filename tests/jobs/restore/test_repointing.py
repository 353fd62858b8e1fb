"""References are updated in every format, for paths of every system, and only if they can be read back."""

from __future__ import annotations

import json
import os
import shutil
import sqlite3
from contextlib import closing
from pathlib import Path

import hypothesis.strategies as st
import pytest
from hypothesis import given

import dunechest
from dunechest.demo.world import World
from dunechest.library.formats.base import Raw
from dunechest.library.kinds.load import parse_kind
from dunechest.library.kinds.schema import References
from dunechest.library.references.reading import READERS
from dunechest.library.references.resolve import Resolver
from dunechest.library.repoint.places import Moves, point
from dunechest.library.repoint.rewrite import NotRewrittenError, rewrite
from dunechest.machine import written_paths
from dunechest.paths import slashed
from tests.support.runs import Command
from tests.support.sealing import edit
from tests.support.trees import bag_of

#: A file of each format that names a place of the old computer; `@` stands for the path there.
FILES = {
    "m3u8": ("list.m3u8", "#EXTM3U\r\n#EXTINF:-1,@\r\n@\r\nplain.wav\r\n", {}),
    "xspf": (
        "list.xspf",
        '<?xml version="1.0"?>\n<playlist xmlns="http://xspf.org/ns/0/"><trackList><track>\n'
        "  <title>@</title><location>file://@</location></track></trackList></playlist>\n",
        {},
    ),
    "bibtex": ("a.bib", "% @\n@article{one,\n file = {Scan:@:PDF},\n note = {see @ there}\n}\n", {}),
    "ris": ("a.ris", "TY  - JOUR\nL1  - @\nN1  - about @\nER  - \n", {}),
    "csl-json": ("a.json", '[{"id": "one", "file": "@", "title": "on @"}]\n', {}),
    "xmp": (
        "a.xmp",
        '<x xmlns:r="http://marram.example/ref#"><d r:filePath="@"/><r:reference>@</r:reference></x>\n',
        {},
    ),
    "markdown": ("a.md", "# Notes\n\n![a dune](<@>) and `@` in code\n", {}),
    "html": ("a.html", '<p title="@ "><img src="@"><a href="other.html">@</a></p>\n', {}),
    "json": ("a.json", '{"clips": [{"path": "@", "note": "was @"}], "other": "@"}\n', {"keys": ("clips.*.path",)}),
    "toml": ("a.toml", 'about = "@ x"\n[set]\nfile = "@"\n', {"keys": ("set.file",)}),
    "ini": ("a.ini", "[covers]\n; @ x\none = @\n", {"keys": ("covers.*",)}),
}


def written(form: str, folder: Path, old: str) -> tuple[Path, References]:
    name, text, keys = FILES[form]
    path = folder / name
    if form in ("csl-json", "json", "toml"):
        old = json.dumps(old)[1:-1]
    path.write_text(text.replace("@article", "\0").replace("@", old).replace("\0", "@article"), encoding="utf-8")
    return path, References(form=form, files=(name,), **keys)  # type: ignore[arg-type]


@pytest.mark.parametrize("form", sorted(FILES))
@pytest.mark.parametrize("old", ["/home/tern/Pictures/Dune Survey/a.jpg", "/home/tern/dune.wav"])
def test_each_format_is_written_anew_and_nothing_else_in_it(form: str, old: str, tmp_path: Path) -> None:
    if form in ("html", "xspf"):
        old = old.replace(" ", "%20")
    path, spec = written(form, tmp_path, old)
    before = path.read_text(encoding="utf-8")
    raws = list(READERS[form](path, spec))
    new = "/Users/plover/Images/Dune Survey/a (1).jpg"
    wanted = {}
    for raw in raws:
        item, other = (old.replace(" ", "%20"), new.replace(" ", "%20")) if raw.uri else (old, new)
        wanted[raw.spot, raw.text] = raw.text.replace(item, other)
    wanted = {key: text for key, text in wanted.items() if text != key[1]}
    assert wanted
    assert rewrite(path, spec, wanted) == []
    assert [raw.text for raw in READERS[form](path, spec)] == [wanted.get((r.spot, r.text), r.text) for r in raws]
    after = path.read_text(encoding="utf-8")
    # Remarks, titles and other text that merely mentions the path keep it.
    mentions = before.count(old) - after.count(old)
    assert 0 < mentions <= len(wanted) + (form == "xmp"), after


def test_what_cannot_be_written_leaves_the_file_alone(tmp_path: Path) -> None:
    path = tmp_path / "torn.json"
    path.write_bytes(b'{"clips": ')
    with pytest.raises(NotRewrittenError):
        rewrite(path, References(form="json", files=(), keys=("clips",)), {("clips", "x"): "y"})
    path = tmp_path / "list.m3u8"
    path.write_text("/old/a.wav\n")
    before = path.read_bytes()
    spec = References(form="m3u8", files=())
    with pytest.raises(NotRewrittenError):  # a line break would make two entries of one
        rewrite(path, spec, {("line 1", "/old/a.wav"): "/new/a\nb.wav"})
    assert (path.read_bytes(), sorted(os.listdir(tmp_path))) == (before, ["home", "list.m3u8", "torn.json"])
    (tmp_path / "link.m3u8").symlink_to(path)
    with pytest.raises(NotRewrittenError):
        rewrite(tmp_path / "link.m3u8", spec, {("line 1", "/old/a.wav"): "/new"})
    path.write_text("/old/a.wav\n/old/a.wav\n")
    left = rewrite(path, spec, {("line 1", "/old/a.wav"): "/new/1.wav", ("line 2", "/old/a.wav"): "/new/2.wav"})
    assert len(left) == 2
    assert "twice" in left[0][2]


SCHEMA = """
CREATE TABLE folder (id INTEGER PRIMARY KEY, path TEXT);
CREATE TABLE picture (id INTEGER PRIMARY KEY, folder INTEGER, name TEXT);
INSERT INTO folder VALUES (7, '/old/in/'), (8, '/old/out');
INSERT INTO picture VALUES (1, 7, 'a.jpg'), (2, 7, 'b.jpg'), (3, 8, 'c.jpg'), (4, 8, 'd.jpg');
"""


def test_a_folder_in_a_table_of_its_own_is_changed_once_or_not_at_all(tmp_path: Path) -> None:
    path = tmp_path / "catalogue.db"
    with closing(sqlite3.connect(path)) as database:
        database.executescript(SCHEMA)
    spec = References(
        form="sqlite",
        files=(),
        table="picture",
        column="name",
        folder="folder.path",
        join="picture.folder = folder.id",
    )
    raws = {raw.text: raw.spot for raw in READERS["sqlite"](path, spec)}
    assert set(raws) == {"/old/in/a.jpg", "/old/in/b.jpg", "/old/out/c.jpg", "/old/out/d.jpg"}
    wanted = {(spot, text): text.replace("/old/in", "/new place") for text, spot in raws.items() if "/in/" in text}
    wanted[raws["/old/out/c.jpg"], "/old/out/c.jpg"] = "/one/c.jpg"
    wanted[raws["/old/out/d.jpg"], "/old/out/d.jpg"] = "/another/d.jpg"
    left = rewrite(path, spec, wanted)
    assert sorted(text for _, text, _ in left) == ["/old/out/c.jpg", "/old/out/d.jpg"]
    with closing(sqlite3.connect(path)) as database:
        assert database.execute("SELECT path FROM folder ORDER BY id").fetchall() == [("/new place/",), ("/old/out",)]
    same = References(form="sqlite", files=(), table="folder", column="path")
    assert rewrite(path, same, {("folder 8", "/old/out"): "/new/out"}) == []
    with closing(sqlite3.connect(path)) as database:
        assert database.execute("SELECT path FROM folder WHERE id = 8").fetchone() == ("/new/out",)
    (tmp_path / "none.db").write_bytes(b"no database")
    with pytest.raises(NotRewrittenError):
        rewrite(tmp_path / "none.db", spec, wanted)


def test_a_hostile_database_changes_nothing_but_itself(tmp_path: Path) -> None:
    path, other = tmp_path / "hostile.db", tmp_path / "other.db"
    with closing(sqlite3.connect(path)) as database:
        database.executescript(
            "CREATE TABLE item (id INTEGER PRIMARY KEY, path TEXT); INSERT INTO item VALUES (1, '/old');"
            "CREATE TRIGGER slow AFTER UPDATE ON item BEGIN"
            f" SELECT writefile('{other}', 'owned'); END;"
        )
    spec = References(form="sqlite", files=(), table="item", column="path")
    with pytest.raises(NotRewrittenError):
        rewrite(path, spec, {("item 1", "/old"): "/new"})
    assert not other.exists()
    with closing(sqlite3.connect(path)) as database:
        assert database.execute("SELECT path FROM item").fetchone() == ("/old",)


def moves(tmp_path: Path, old: str, *, windows: bool = False, files: tuple[str, ...] = ()) -> tuple[Moves, Resolver]:
    new = tmp_path / "Images" / "Dune Survey"
    names = set(files)
    made = Moves(
        old=old,
        new=str(new),
        windows=windows,
        renamed={"what~.jpg": "what.jpg"},
        inside=(lambda path: path.casefold() in {n.casefold() for n in names}) if windows else names.__contains__,
        outside_files={
            ("C:/Users/tern" if windows else "/home/tern") + "/Desktop/wall.jpg": str(tmp_path / "Table" / "wall.jpg")
        },
        folders=((old.rpartition("/")[0].rpartition("/")[0] + "/Music", str(tmp_path / "Sounds")),),
        home=str(tmp_path),
        old_home=old.rpartition("/")[0].rpartition("/")[0],
    )
    return made, Resolver(new, files, (), tmp_path)


@pytest.mark.parametrize(
    ("text", "uri", "base", "now"),
    [
        ("C:\\Users\\tern\\Pictures\\Dune Survey\\sub\\a.jpg", False, "", "{lib}/sub/a.jpg"),
        ("c:/users/TERN/Pictures/Dune Survey/sub/a.jpg", False, "", "{lib}/sub/a.jpg"),
        ("file:///C:/Users/tern/Pictures/Dune%20Survey/sub/a.jpg", True, "", "{uri}/sub/a.jpg"),
        ("sub\\a.jpg", False, "", "sub/a.jpg"),
        ("..\\sub\\a.jpg", False, "lists", "../sub/a.jpg"),
        ("C:\\Users\\tern\\Desktop\\WALL.jpg", False, "", "{home}/Table/wall.jpg"),
        ("..\\..\\Desktop\\wall.jpg", False, "", "../../Table/wall.jpg"),
        ("D:\\card\\gone.mov", False, "", None),
        ("https://marram.example/a", True, "", ""),
    ],
)
def test_paths_of_windows_lead_somewhere_here(
    text: str, uri: bool, base: str, now: str | None, tmp_path: Path
) -> None:
    old = "C:/Users/tern/Pictures/Dune Survey"
    made, resolver = moves(tmp_path, old, windows=True, files=("sub/a.jpg",))
    found = point(Raw("", text, uri), base, made, resolver)
    if now is None:
        assert found.state == "lost"
    else:
        lib = tmp_path / "Images" / "Dune Survey"
        assert slashed(found.text) == slashed(now.format(lib=lib, home=tmp_path, uri=lib.as_uri())), found


@pytest.mark.parametrize(
    ("text", "uri", "base", "now"),
    [
        ("/home/tern/Pictures/Dune Survey/sub/a.jpg", False, "", "{lib}/sub/a.jpg"),
        ("/home/tern/Pictures/Dune Survey", False, "", "{lib}"),
        ("file:///home/tern/Pictures/Dune%20Survey/sub/a.jpg#page=2", True, "", "{uri}/sub/a.jpg#page=2"),
        ("~/Pictures/Dune Survey/sub/a.jpg", False, "", "~/Images/Dune Survey/sub/a.jpg"),
        ("~/Desktop/wall.jpg", False, "", "~/Table/wall.jpg"),
        ("sub/a.jpg", False, "", ""),
        ("../sub/../sub/a.jpg", False, "lists", ""),
        ("../../../Desktop/wall.jpg", False, "lists", "../../../Table/wall.jpg"),
        ("what~.jpg", False, "", "what.jpg"),
        ("/home/tern/Music/here.wav", False, "", "{home}/Sounds/here.wav"),
        ("/home/tern/Music/not here.wav", False, "", None),
        ("/Volumes/old/elsewhere/sub/a.jpg", False, "", "{lib}/sub/a.jpg"),
        ("#top", True, "", ""),
        ("mailto:tern@marram.example", True, "", ""),
        ("", False, "", ""),
    ],
)
def test_paths_of_another_home_lead_somewhere_here(
    text: str, uri: bool, base: str, now: str | None, tmp_path: Path
) -> None:
    made, resolver = moves(tmp_path, "/home/tern/Pictures/Dune Survey", files=("sub/a.jpg", "what~.jpg", "what.jpg"))
    (tmp_path / "Sounds").mkdir()
    (tmp_path / "Sounds" / "here.wav").touch()
    found = point(Raw("", text, uri), base, made, resolver)
    lib = tmp_path / "Images" / "Dune Survey"
    if now is None:
        assert found.state == "lost"
    else:
        assert slashed(found.text) == slashed(now.format(lib=lib, home=tmp_path, uri=lib.as_uri())), found


@given(st.text(max_size=40), st.booleans())
def test_any_text_is_a_path_or_none(text: str, uri: bool) -> None:
    found = written_paths.read(text, uri)
    if found is not None:
        written_paths.write("/a b/c", found)
        assert "\0" not in found.path or "\0" not in text


@given(st.lists(st.text("ab .%#ü", min_size=1, max_size=5).filter(lambda p: p.strip(".")), min_size=1, max_size=4))
def test_a_uri_written_is_read_back(pieces: list[str]) -> None:
    path = "/" + "/".join(pieces)
    like = written_paths.read("file:///x", True)
    assert like is not None
    back = written_paths.read(written_paths.write(path, like), True)
    assert back is not None
    assert back.path == path


KIND = """
format = 1
name = "glasseel"
title = "Pictures"
[[signs]]
path = "pictures.json"
[[references]]
from = "json"
files = ["pictures.json"]
keys = ["files.*"]
[[settings]]
file = "{configuration}/glasseel/settings.SUFFIX"
key = "KEY"
"""


def shoal(tmp_path: Path, chest: dunechest.Chest, suffix: str, key: str) -> Path:
    """Archive a library of a kind of its own, whose paths are those of another system."""
    kinds = tmp_path / "state" / "kinds"
    kinds.mkdir(parents=True, exist_ok=True)
    text = KIND.replace("SUFFIX", suffix).replace("KEY", key)
    parse_kind(text, "here")
    (kinds / "glasseel.toml").write_text(text)
    place = tmp_path / "home" / "Pictures" / "Shoal"
    (place / "sub").mkdir(parents=True)
    (place / "sub" / "a.jpg").write_bytes(b"a")
    names = ["C:\\Users\\tern\\Pictures\\Shoal\\sub\\a.jpg", "sub\\a.jpg", "C:\\Users\\tern\\nowhere.jpg"]
    (place / "pictures.json").write_text(json.dumps({"files": names}))
    (account,) = dunechest.archive([place], chest)
    origin = {"path": "C:\\Users\\tern\\Pictures\\Shoal", "system": "windows", "machine_id": "f" * 32}
    edit(bag_of(chest, account.archived_as), lambda record: record["origin"].update(origin))
    shutil.rmtree(place)
    return place


@pytest.mark.parametrize(
    ("suffix", "key", "before"),
    [
        ("json", "library", None),
        ("json", "set.library", '{"other": 1}\n'),
        ("toml", "library", 'other = "x"\nlibrary = "/nothing/there"\n'),
        ("toml", "set.library", None),
        ("ini", "set.library", "[set]\nother = 1\n"),
        ("ini", "set.library", None),
    ],
)
def test_a_library_of_another_system_comes_home_and_its_setting_with_it(
    suffix: str, key: str, before: str | None, tmp_path: Path, chest: dunechest.Chest, command: Command
) -> None:
    place = shoal(tmp_path, chest, suffix, key)
    setting = tmp_path / "home" / ".config" / "glasseel" / f"settings.{suffix}"
    if before is not None:
        setting.parent.mkdir(parents=True)
        setting.write_text(before)
    ran = command("restore", chest.folder, "shoal", "--json")
    (account,) = ran.json["libraries"]
    names = json.loads((place / "pictures.json").read_text())["files"]
    assert names == [str(place / "sub" / "a.jpg"), "sub/a.jpg", "C:\\Users\\tern\\nowhere.jpg"]
    (lost,) = account["references_by_hand"]
    assert (lost["text"], "was not in the archive" in lost["action"]) == ("C:\\Users\\tern\\nowhere.jpg", True)
    assert str(place) in setting.read_text()
    assert account["settings"][0]["why_not"] == ""
    if before:
        assert "other" in setting.read_text()
    assert command("undo", "--only-references").status == 0
    assert (setting.read_text() if before is not None else str(place)) in (before, str(place))
    assert "sub\\\\a.jpg" in (place / "pictures.json").read_text()
    assert command("undo").status == 0
    assert not place.exists()
    assert (setting.read_text() if before is not None else None) == before


def test_a_setting_that_names_another_library_is_left_unless_asked(
    tmp_path: Path, chest: dunechest.Chest, command: Command
) -> None:
    place = shoal(tmp_path, chest, "json", "library")
    other = tmp_path / "home" / "Pictures" / "Another"
    other.mkdir()
    (other / "x").touch()
    setting = tmp_path / "home" / ".config" / "glasseel" / "settings.json"
    setting.parent.mkdir(parents=True)
    setting.write_text(json.dumps({"library": str(other)}))
    plan = command("restore", chest.folder, "shoal", "--plan", "--json").json["libraries"][0]
    assert (plan["settings"], plan["unchanged_settings"][0]["old"]) == ([], str(other))
    assert "another-library" in {finding["code"] for finding in plan["findings"]}
    assert command("restore", chest.folder, "shoal", "--update-settings").status == 0
    assert json.loads(setting.read_text())["library"] == str(place)
    setting.write_text("{ torn")
    shutil.rmtree(place)
    plan = command("restore", chest.folder, "shoal", "--plan", "--json", "--keep-paths").json["libraries"][0]
    assert (plan["settings"], plan["updated_references"]) == ([], [])


def test_the_plan_names_what_the_restore_will_not_update(
    world: World, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Many pictures share one folder's value; what is left over counts the same before and afterwards."""
    for name, value in world.environment("office-pc").items():
        monkeypatch.setenv(name, value)
    chest = dunechest.create_chest(world.blue, "blue")
    dunechest.archive(world.photos, chest)
    for name, value in world.environment("new-laptop").items():
        monkeypatch.setenv(name, value)
    plan = dunechest.plan_restore(chest, "dune-survey", dunechest.RestoreOptions(home=world.laptop_home))
    (left,) = plan.old_place.files
    assert (left.path, left.mention_count) == ("catalogue.glw", 1)
    assert "will still name" in next(f.message for f in plan.findings if f.code == "old-place")
    result = dunechest.carry_out(plan)
    assert isinstance(result, dunechest.model.RestoreResult)
    assert result.old_place.files == plan.old_place.files
