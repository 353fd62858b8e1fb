"""The command line and the Python interface at large: options, statuses, ledger, kinds, documents, start-up."""

from __future__ import annotations

import ast
import doctest
import importlib.util
import json
import pkgutil
import re
import subprocess
import sys
import tempfile
import tomllib
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import dunechest
from dunechest import clock
from dunechest.cli.app import COMMANDS
from dunechest.demo.applications import APPLICATIONS
from dunechest.ledger import events
from dunechest.ledger.folder import state_folder
from dunechest.ledger.gather import gather
from dunechest.ledger.ledger import open_ledger
from dunechest.library.kinds.load import load_kinds, parse_kind
from dunechest.machine import folders
from dunechest.machine.drives import filesystem
from tests.support.runs import Command
from tests.support.trees import bag_of

ROOT = Path(__file__).resolve().parents[2]
MODULES = sorted(
    m.name
    for m in pkgutil.walk_packages(dunechest.__path__, "dunechest.")
    if not m.name.endswith(("__main__", "migrations.env"))
)


def _has_examples(name: str) -> bool:
    found = importlib.util.find_spec(name)
    return found is not None and found.origin is not None and ">>>" in Path(found.origin).read_text(encoding="utf-8")


@pytest.mark.parametrize("name", [name for name in MODULES if _has_examples(name)])
def test_examples_in_docstrings_run(name: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(tempfile, "tempdir", str(tmp_path))  # or the examples' folders would be left behind
    assert doctest.testmod(importlib.import_module(name)).failed == 0


def test_everything_public_can_be_had(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(tempfile, "tempdir", str(tmp_path))
    for name in dunechest.__all__:
        assert getattr(dunechest, name) is not None
    with pytest.raises(AttributeError):
        _ = dunechest.nothing_of_that_name
    assert doctest.testmod(dunechest).failed == 0


@pytest.mark.parametrize("name", sorted(COMMANDS))
def test_every_command_has_help_and_the_common_options(name: str, command: Command) -> None:
    ran = command(name, "--help")
    assert ran.status == 0
    if name in ("chest", "computers", "kinds", "editions", "places", "routine", "office"):
        inner = {
            "office": ("set-up", "add", "remove", "join", "leave", "send", "show"),
            "chest": ("new", "connect", "list", "show"),
            "kinds": ("list", "show", "check", "draft", "try", "add"),
            "computers": ("list", "mine", "not-mine"),
            "editions": ("list", "drop"),
            "places": ("list", "forget"),
            "routine": ("add", "list", "run", "remove"),
        }[name]
        texts = [command(name, item, "--help").out for item in inner]
    else:
        texts = [ran.out]
    for text in texts:
        for option in ("--json", "--quiet", "--no-progress", "--verbose"):
            assert option in text


def test_quiet_is_quiet_and_json_is_one_document(library: Path, drive: Path, command: Command) -> None:
    steps = [
        ("chest", "new", drive, "--label", "blue"),
        ("chest", "list"),
        ("find", library),
        ("look", library),
        ("archive", library, "--to", drive, "--plan"),
        ("archive", library, "--to", drive),
        ("verify", drive),
        ("chest", "show", drive),
        ("restore", drive, "shed", "--into", library.parent / "b1"),
        ("kinds", "list"),
        ("kinds", "show", "glasswort"),
    ]
    for words in steps:
        ran = command(*words, "--quiet")
        assert (ran.status, ran.out, ran.err) == (0, "", "")
    for words in [("chest", "new", drive.parent / "d2", "--label", "sand"), *steps[1:-3]]:
        (drive.parent / "d2").mkdir(exist_ok=True)
        ran = command(*words, "--json")
        assert isinstance(ran.json, dict)
        assert ran.err == ""


@pytest.mark.parametrize(
    "words",
    [
        ("archive", "x", "--to", "y", "--ignore", "mistyped"),
        (),
        ("no-such-command",),
        ("archive",),
        ("archive", "x"),
        ("verify",),
        ("find", "--no-such-option"),
        ("chest",),
    ],
)
def test_wrong_words_end_with_status_2(words: tuple[str, ...], command: Command) -> None:
    ran = command(*words)
    assert ran.status == 2
    assert ran.out == ""
    assert ran.err


def test_a_real_process_gives_status_and_no_progress_to_a_pipe(library: Path, chest: dunechest.Chest) -> None:
    words = [sys.executable, "-m", "dunechest"]
    ran = subprocess.run(
        [*words, "archive", library, "--to", chest.folder], capture_output=True, text=True, check=False
    )
    assert (ran.returncode, ran.stderr) == (0, "")
    ran = subprocess.run([*words, "restore", chest.folder, "shed"], capture_output=True, text=True, check=False)
    assert ran.returncode == 3
    assert "no-place" in ran.stderr
    ran = subprocess.run([*words, "--version"], capture_output=True, text=True, check=False)
    assert re.match(r"dunechest \d", ran.stdout)


def test_a_chest_has_a_label_and_is_known_by_it_and_by_its_id(drive: Path, command: Command) -> None:
    made = command("chest", "new", drive, "--label", "Top shelf", "--json").json["chest"]
    for name in ("Top shelf", "top SHELF", made["id"], made["id"][:8], drive, drive / "dune-chest"):
        assert command("chest", "show", name, "--json").json["chest"]["id"] == made["id"]
    assert command("chest", "new", drive, "--label", "other").status == 3
    (drive.parent / "d2").mkdir()
    assert "already exists in" in command("chest", "new", drive.parent / "d2", "--label", "top shelf").err
    for label in ("", "two\nlines", "x" * 61, "\x1b[0m"):
        assert command("chest", "new", drive.parent / "d2", "--label", label).status == 2
    assert command("chest", "new", drive.parent / "nowhere", "--label", "x").status == 2


def test_a_drive_that_was_unplugged_is_remembered_and_one_that_moved_is_found(drive: Path, command: Command) -> None:
    command("chest", "new", drive, "--label", "blue")
    drive.rename(drive.parent / "other port")
    ran = command("verify", "blue")
    assert ran.status == 4
    assert "not connected" in ran.err
    (listed,) = command("chest", "list", "--json").json["chests"]
    assert (listed["label"], listed["connected"]) == ("blue", False)
    assert command("verify", drive.parent / "other port").status == 0
    assert command("verify", "blue").status == 0


def test_the_ledger_takes_in_each_note_once_and_survives_torn_ones(own_machine: Path) -> None:
    for number in range(3):
        events.append("check", chest="c", bag=f"b{number}", quick=False, intact=True, files=1, wrong=0)
    torn = state_folder() / "notes" / "0-torn.jsonl"
    torn.write_bytes(b'{"what": "check", "when": 1, "fa\n\xff\xfe\n{"what":"check","when":1,"facts":{"chest":"c"}}\n')
    for _ in range(2):
        with open_ledger() as ledger:
            assert [check.bag for check in ledger.checks("c")] == ["b2", "b1", "b0"]
        gather(state_folder())
        assert list((state_folder() / "notes").glob("*.jsonl")) == []
    for number in range(250):
        events.append("seen", place=f"/{number:03}", name="n", kind="k")
    with open_ledger() as ledger:
        assert len(ledger.seen_libraries()) == 250
    assert list((state_folder() / "notes").glob("*.jsonl")) == [], "very many are gathered by themselves"


_EVENTS = st.one_of(
    st.tuples(
        st.just("check"),
        st.fixed_dictionaries(
            {
                "chest": st.sampled_from("ab"),
                "bag": st.sampled_from("xy"),
                "quick": st.booleans(),
                "intact": st.booleans(),
            }
            | {"files": st.integers(0, 9) | st.just(1 << 70) | st.just("many"), "wrong": st.integers(0, 9)},
            optional={"where": st.sampled_from(["", "here"])},
        ),
    ),
    st.tuples(
        st.just("hold"),
        st.fixed_dictionaries(
            {"chest": st.sampled_from("ab"), "bag": st.sampled_from("xy"), "gone": st.booleans()},
            optional={"name": st.text(max_size=3), "edition": st.integers(0, 9), "archived": st.integers(0, 9)},
        ),
    ),
    st.tuples(st.just("keep"), st.fixed_dictionaries({"chest": st.sampled_from("ab"), "place": st.text(max_size=2)})),
    st.tuples(st.just("of a later version"), st.fixed_dictionaries({"chest": st.just("a")})),
)


@settings(max_examples=20)
@given(st.lists(st.tuples(_EVENTS, st.booleans()), max_size=12))
def test_the_ledger_answers_alike_gathered_or_not(noted: list[tuple[tuple[str, dict[str, Any]], bool]]) -> None:
    with (
        tempfile.TemporaryDirectory() as one,
        tempfile.TemporaryDirectory() as other,
        pytest.MonkeyPatch.context() as patch,
    ):
        answers = []
        for folder in (one, other):
            patch.setenv("DUNECHEST_HOME", folder)
            at = iter(range(100))
            patch.setattr(clock, "now", lambda at=at: float(next(at)))
            for (what, facts), gathered in noted:
                events.append(what, **facts)
                if gathered and folder == other:
                    gather(Path(folder))
            with open_ledger() as ledger:
                answers.append((ledger.holdings(), ledger.checks("a"), ledger.checks("b"), ledger.chests()))
        assert answers[0] == answers[1]


def test_a_spoilt_ledger_is_said_so_and_archives_go_on(
    library: Path, chest: dunechest.Chest, command: Command
) -> None:
    state_folder().mkdir(exist_ok=True)
    (state_folder() / "ledger.sqlite").write_bytes(b"not a database at all" * 100)
    assert command("chest", "list").status == 0
    assert "own record is damaged" in command("status").out
    assert command("archive", library, "--to", chest.folder).status == 0
    assert command("verify", chest.folder).status == 0


def test_how_to_restore_speaks_to_a_stranger(library: Path, chest: dunechest.Chest) -> None:
    (library / "link").symlink_to("rope.txt")
    (library / "100%.txt").write_text("all")
    dunechest.archive([library], chest)
    text = (bag_of(chest, "shed") / "HOW-TO-RESTORE.txt").read_text()
    for words in (
        str(library), "sha512sum --quiet -c", "shasum -a 512", "Get-FileHash", "data/library", "4 files",
        "1 symbolic link", "1 empty folder", "%0A", "dunechest restore",
    ):  # fmt: skip
        assert words in text
    for path in (bag_of(chest, "shed") / "HOW-TO-RESTORE.txt", chest.folder / "READ-ME.txt"):
        assert max(len(line) for line in path.read_text().splitlines()) < 110
        assert path.read_bytes().isascii()
    assert "blue" in (chest.folder / "READ-ME.txt").read_text()


def test_the_format_page_names_every_field() -> None:
    from dunechest.chest import records

    page = (ROOT / "docs" / "on-drive-format.md").read_text()
    for name in ("ChestRecord", "LibraryRecord", "Origin", "FileRecord", "TagRecord", "LeftOut", "CapturedDatabase",
                 "PartRecord", "OutsideFileRecord", "ReferenceRecord", "ReferenceCounts"):  # fmt: skip
        for field in getattr(records, name).__struct_fields__:
            assert f"`{field}`" in page, f"{name}.{field}"


def test_the_kinds_page_shows_a_kind_that_is_one() -> None:
    page = (ROOT / "docs" / "kind-files.md").read_text()
    examples = re.findall(r"```toml\n(.*?)```", page, re.DOTALL)
    assert parse_kind(examples[0], "the page").signs
    for field in (
        "format",
        "name",
        "title",
        "places",
        "signs",
        "together",
        "databases",
        "sidecars",
        "settings",
        "parts",
        "references",
        "roles",
        "in-use",
        "elsewhere",
    ):
        assert f"`{field}`" in page


KIND = 'format = 1\nname = "a"\ntitle = "A"\n[[signs]]\npath = "x"\n'


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("format = ", "not TOML"),
        (KIND.replace("1", "2", 1), "newer"),
        (KIND.replace('"a"', '"Not A Slug"'), "small letters"),
        (KIND.replace('"a"', '"folder"'), "small letters"),
        (KIND.replace("[[signs]]", "[[sings]]"), "sings"),
        (KIND.replace('path = "x"', "path = 5"), "line 5: signs.1.path"),
        (KIND.partition("[[")[0], "at least one"),
        (KIND + '[places]\nlinux = ["/etc"]\n', "standard folder"),
        (KIND + '[places]\namphora = ["{home}/x"]\n', "amphora"),
    ],
)
def test_a_mistake_in_a_kind_file_is_named(text: str, words: str, tmp_path: Path, command: Command) -> None:
    path = tmp_path / "k.toml"
    path.write_text(text)
    ran = command("kinds", "check", path)
    assert ran.status == 1
    assert words in ran.err
    assert command("kinds", "check", path, "--json").json["ok"] is False


def test_an_own_kind_is_used(tmp_path: Path, command: Command) -> None:
    place = state_folder() / "kinds"
    place.mkdir(parents=True)
    (place / "knots.toml").write_text(
        'format = 1\nname = "knots"\ntitle = "Knots"\n'
        '[[signs]]\npath = "knots.idx"\n[roles]\nrebuildable = ["tmp/**"]\n'
    )
    assert command("kinds", "check", place / "knots.toml").status == 0
    library = tmp_path / "deep" / ".hidden" / "knots"
    (library / "tmp").mkdir(parents=True)
    (library / "knots.idx").write_text("bowline")
    (library / "tmp" / "x").write_text("y")
    (found,) = command("find", tmp_path / "deep", "--json").json["libraries"]
    assert found["kind"] == "knots"
    assert command("kinds", "show", "knots").status == 0
    assert command("kinds", "show", "no-such").status == 2
    (place / "bad.toml").write_text("format = 1\n")
    again = command("find", tmp_path / "deep", "--json").json
    assert [found["kind"] for found in again["libraries"]] == ["knots"]
    (mistake,) = again["kind_file_errors"]
    assert "bad.toml, line 1: the key 'title' is missing" in mistake
    assert "was skipped" in command("find", tmp_path / "deep").out


def test_shipped_kinds_are_package_data() -> None:
    assert {name for name, kind in load_kinds().items() if not kind.open} == set(APPLICATIONS)


@pytest.mark.parametrize("system", ["linux", "macos", "windows"])
def test_standard_folders_of_each_system(system: str, tmp_path: Path) -> None:
    places = folders.standard_folders(tmp_path, system)
    assert set(places) == set(folders.ORDER)
    assert all(place.is_relative_to(tmp_path) for place in places.values())


def test_place_of_prefers_the_most_special_folder(own_machine: Path) -> None:
    assert folders.place_of(own_machine / "Pictures" / "a" / "b", own_machine) == ("pictures", "a/b")
    assert folders.place_of(own_machine / ".config" / "x", own_machine) == ("configuration", "x")
    assert folders.place_of(own_machine / ".x", own_machine) == ("home", ".x")
    assert folders.place_of(Path("/elsewhere"), own_machine) is None


def test_the_filesystem_is_described(tmp_path: Path) -> None:
    place = filesystem(tmp_path)
    assert 0 < place.free <= place.total
    assert place.block >= 512
    assert tmp_path.resolve().is_relative_to(place.mount)


def test_start_up_loads_no_heavy_library() -> None:
    program = "import sys; from dunechest.cli.app import run; run(['--help']); print(sorted(sys.modules))"
    loaded = subprocess.run([sys.executable, "-c", program], capture_output=True, text=True, check=True).stdout
    modules = set(ast.literal_eval(loaded.splitlines()[-1]))
    assert modules.isdisjoint({"sqlalchemy", "pandas", "matplotlib", "rich", "jinja2", "blake3", "psutil", "PIL"})


def test_the_worker_imports_little() -> None:
    program = "import sys, dunechest.transfer.worker; print(sorted(sys.modules))"
    loaded = subprocess.run([sys.executable, "-c", program], capture_output=True, text=True, check=True).stdout
    assert set(ast.literal_eval(loaded)).isdisjoint({"sqlalchemy", "rich", "click", "psutil", "sqlite3"})


@pytest.mark.slow
@pytest.mark.parametrize("script", sorted(path.name for path in (ROOT / "examples").glob("*.py")))
def test_examples_run(script: str, library: Path, tmp_path: Path) -> None:
    drive = tmp_path / "example drive"
    drive.mkdir()
    words = {
        "archive_and_verify.py": [library, drive],
        "libraries_as_table.py": [tmp_path],
        "restore_elsewhere.py": [drive, "shed", tmp_path / "back"],
    }[script]
    if script == "restore_elsewhere.py":
        dunechest.archive([library], dunechest.Chest.create(drive, "x"))
    ran = subprocess.run(
        [sys.executable, ROOT / "examples" / script, *words], capture_output=True, text=True, check=False
    )
    assert ran.returncode == 0, ran.stderr
    assert {"archive_and_verify.py": "all intact", "restore_elsewhere.py": "all well"}.get(script, "") in ran.stdout


@pytest.mark.slow
def test_the_whole_story(tmp_path: Path) -> None:
    words = [sys.executable, "-m", "dunechest", "demo", str(tmp_path / "w"), "--size", "0.1", "--json"]
    ran = subprocess.run(words, capture_output=True, text=True, check=False)
    assert ran.returncode == 0, ran.stderr
    story = json.loads(ran.stdout)
    assert story["ok"]
    assert [step["status"] for step in story["steps"] if step["status"]] == [3, 1, 1, 1, 1, 3, 3]
    assert all(step["as_expected"] for step in story["steps"])


def test_dependencies_have_bounds() -> None:
    project = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]
    for item in project["dependencies"]:
        assert ">=" in item
        assert "<" in item
