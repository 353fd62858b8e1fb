"""The JSON documents: every command in every outcome, the rules of their names, and the same from Python."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import typing
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import jsonschema
import pytest

import dunechest
from dunechest.cli.app import every_command
from dunechest.cli.bar import STAGE_WORDS
from dunechest.model.bodies import BODIES
from dunechest.model.schemas import name_of, schema_of
from dunechest.progress import Stage
from tests.support.households import meet
from tests.support.runs import Command
from tests.support.trees import bag_of, flip

ROOT = Path(__file__).resolve().parents[2]


def _steps(library: Path, drive: Path, place: Path) -> Iterator[tuple[str, int, list[Any]]]:
    """Yield document, exit status and command, in an order in which each ends well."""
    kind = place / "ropes.toml"
    yield "chest-new", 0, ["chest", "new", drive, "--label", "blue"]
    yield "chest-list", 0, ["chest", "list"]
    yield "find", 0, ["find", library.parent]
    yield "look", 0, ["look", library, "--on", "blue"]
    yield "look-watch", 0, ["look", library, "--watch"]
    yield "archive-plan", 0, ["archive", library, "--to", "blue", "--plan"]
    yield "archive", 0, ["archive", library, "--to", "blue"]
    yield "archive", 0, ["archive", library, "--to", "blue"]
    yield "chest-show", 0, ["chest", "show", "blue"]
    yield "chest-new", 0, ["chest", "new", place / "sand", "--label", "sand"]
    yield "copy-plan", 0, ["copy", drive, place / "sand", "--plan"]
    yield "copy", 0, ["copy", drive, place / "sand", "shed"]
    yield "mend-plan", 0, ["mend", drive, "--from", place / "sand", "--plan"]
    yield "mend", 0, ["mend", drive, "shed", "--from", library]
    yield "search", 0, ["search", "rope"]
    yield "compare-chests", 0, ["compare", drive, place / "sand"]
    yield "verify", 0, ["verify", "blue"]
    yield "drill", 0, ["drill", "blue"]
    yield "chest-show", 0, ["chest", "show", "blue"]
    yield "editions-list", 0, ["editions", "list", "blue", "shed"]
    yield "editions-drop", 0, ["editions", "drop", "blue", "shed", "--retain", "the last 1"]
    yield "compare", 0, ["compare", library, "blue/shed"]
    yield "restore-list", 0, ["restore", "blue"]
    yield "restore-plan", 0, ["restore", "blue", "shed", "--map", f"{library.parent}={place / 'new'}", "--plan"]
    yield "restore", 0, ["restore", "blue", "shed", "--map", f"{library.parent}={place / 'new'}"]
    meet("laptop", drive, place)
    yield "computers-list", 0, ["computers", "list"]
    yield "computers-mine", 0, ["computers", "mine", "laptop"]
    yield "computers-not-mine", 0, ["computers", "not-mine", "laptop"]
    yield "places-list", 0, ["places", "list"]
    yield "places-forget", 0, ["places", "forget", library.parent]
    yield "undo", 0, ["undo", "--plan"]
    yield "undo", 0, ["undo"]
    yield "kinds-list", 0, ["kinds", "list"]
    yield "kinds-show", 0, ["kinds", "show", "glasswort"]
    yield "kinds-draft", 0, ["kinds", "draft", library, "--name", "ropes", "--write", kind]
    yield "kinds-check", 0, ["kinds", "check", kind]
    yield "kinds-try", 0, ["kinds", "try", kind, library]
    yield "kinds-add", 0, ["kinds", "add", kind]
    yield "chest-rebuild", 0, ["chest", "rebuild", drive]
    yield "chest-place", 0, ["chest", "place", "blue", "desk"]
    yield "chest-retire", 0, ["chest", "retire", "blue"]
    yield "chest-retire", 0, ["chest", "retire", "blue", "--undo"]
    yield "chest-rename", 0, ["chest", "rename", "blue", "blue too"]
    yield "chest-rename", 0, ["chest", "rename", "blue too", "blue"]
    words = ["--to", "blue", "--when", "every hour", "--scheduler", "none", "--retain", "the last 3"]
    yield "routine-add", 0, ["routine", "add", "hourly", library, *words, "--plan"]
    yield "routine-add", 0, ["routine", "add", "hourly", library, *words]
    yield "routine-run", 0, ["routine", "run", "hourly"]
    yield "routine-run", 0, ["routine", "run", "--due"]
    yield "routine-list", 0, ["routine", "list"]
    yield "routine-list", 0, ["routine", "list", "hourly"]
    yield "routine-remove", 0, ["routine", "remove", "hourly"]
    yield "release", 0, ["release", "blue"]
    yield "rehome-plan", 0, ["rehome", library, "--to", place / "far", "--plan"]
    yield "rehome", 0, ["rehome", library, "--to", place / "far"]
    yield "rejoin-plan", 0, ["rehome", "--rejoin", library, "--plan"]
    yield "rejoin", 0, ["rehome", "--rejoin", library]
    yield "reclaim-plan", 0, ["reclaim", library, "--plan"]
    yield "reclaim", 0, ["reclaim", library, "--yes"]
    yield "rehome", 0, ["rehome", "--back", library, "--reclaim", "--yes"]
    yield "demo", 0, ["demo", place / "world", "--size", "0.05", "--only-world"]
    games = place / "world" / "office-pc" / "second-drive" / "Winter Games"
    yield "rehome-part-plan", 0, ["rehome", games, "--part", "Lanternfish", "--to", place / "far", "--plan"]


def test_every_command_that_ends_well(library: Path, drive: Path, tmp_path: Path, command: Command) -> None:
    seen = set()
    (tmp_path / "sand").mkdir()
    (tmp_path / "far").mkdir()
    for schema, status, words in _steps(library, drive, tmp_path):
        if words[:2] == ["chest", "rebuild"]:
            (drive / "dune-chest" / "chest.json").unlink()
        ran = command(*words, "--json")
        assert (ran.status, ran.err) == (status, ""), (words, ran.out, ran.err)
        document = ran.json
        assert document["schema"] == name_of(schema)
        assert (document["ok"], document["error"], document["problems"]) == (True, None, [])
        assert document["command"].split() == [str(word) for word in words[: len(document["command"].split())]]
        seen.add(schema)
    shutil.rmtree(drive / "dune-chest" / "bags" / "shed")
    assert command("chest", "forget", "blue", "shed", "--json").json["libraries"] == [{"name": "shed"}]
    assert command("status", "--json").json["schema"] == "dunechest/status/1"
    assert command("report", "--json").json["schema"] == "dunechest/report/1"
    assert command("chest", "new-id", drive, "--yes", "--json").json["schema"] == "dunechest/chest-new-id/1"
    rest = {"chest-forget", "chest-new-id", "status", "report", "rehome-forget", "error"}
    office = {name for name in BODIES if name.startswith("office-")}  # they need a server: see tests/office
    assert seen | rest | office == set(BODIES)


def test_a_lost_drive_is_forgotten(library: Path, tmp_path: Path, command: Command) -> None:
    (tmp_path / "far").mkdir()
    assert command("rehome", library, "--to", tmp_path / "far").status == 0
    assert command("rehome", "--forget", library).status == 3
    shutil.rmtree(tmp_path / "far")
    assert command("look", library).status == 4
    ran = command("rehome", "--forget", library, "--json")
    assert (ran.status, ran.json["libraries"][0]["connected"]) == (0, False)
    assert not os.path.lexists(library) and dunechest.places.list_homes() == ()
    assert command("undo", "--yes").status == 0
    assert library.is_symlink() and len(dunechest.places.list_homes()) == 1


def test_problems_are_in_the_document(
    library: Path, chest: dunechest.Chest, tmp_path: Path, command: Command
) -> None:
    dunechest.archive(library, chest)
    (library / "rope.txt").write_text("other")
    bad = tmp_path / "bad.toml"
    bad.write_text('format = 1\nname = "bad"\n')
    flip(bag_of(chest, "shed") / "data" / "library" / "rafters" / "oar.txt")
    (tmp_path / "sand").mkdir()
    dunechest.create_chest(tmp_path / "sand", "sand")
    into = ("--into", tmp_path / "back")
    for schema, words in (
        ("verify", ("verify", chest.folder)),
        ("copy", ("copy", chest.folder, tmp_path / "sand")),
        ("mend-plan", ("mend", chest.folder, "--plan")),
        ("mend", ("mend", chest.folder)),
        ("compare", ("compare", library, f"{chest.folder}/shed")),
        ("kinds-check", ("kinds", "check", bad)),
        ("restore", ("restore", chest.folder, "shed", *into)),
        ("drill", ("drill", chest.folder)),
        ("chest-show", ("chest", "show", chest.folder)),
    ):
        if schema == "chest-show":
            (chest.folder / "bags" / "shed").rename(chest.folder / "bags" / "shed-2")
        ran = command(*words, "--json")
        document = ran.json
        assert (ran.status, document["ok"], document["error"]) == (1, False, None), words
        assert document["schema"] == name_of(schema)
        assert document["problems"], words
        quiet = command(*words, "--quiet")
        assert quiet.status in (1, 3), words
        if schema != "restore":  # there it is in the way of itself by now
            assert quiet.err.count("\n") == len(document["problems"]), words


def test_refusals_name_the_library_and_are_in_the_document(
    library: Path, chest: dunechest.Chest, tmp_path: Path, command: Command
) -> None:
    dunechest.archive(library, chest)
    (library / "rope.txt").write_text("other")
    dunechest.archive(library, chest)
    (tmp_path / "other").mkdir()
    (tmp_path / "other" / "knots.txt").write_text("bowline")
    drive = chest.folder.parent
    (tmp_path / "sand").mkdir()
    (tmp_path / "elsewhere" / "shed").mkdir(parents=True)
    (tmp_path / "elsewhere" / "shed" / "knots.txt").write_text("bowline")
    other = dunechest.create_chest(tmp_path / "sand", "sand")
    dunechest.archive(tmp_path / "elsewhere" / "shed", other)
    for schema, words in (
        ("archive", ("archive", library, drive, "--to", chest.folder)),
        ("archive-plan", ("archive", drive, "--to", chest.folder, "--plan")),
        ("copy", ("copy", chest.folder, other.folder, "shed")),
        ("copy-plan", ("copy", chest.folder, other.folder, "shed", "--plan")),
        ("restore", ("restore", chest.folder, "shed", "--into", library)),
        ("restore-plan", ("restore", chest.folder, "shed", "--into", library, "--plan")),
        ("editions-drop", ("editions", "drop", chest.folder, "shed", "--retain", "the last 1")),
        ("chest-new", ("chest", "new", chest.folder.parent, "--label", "other")),
    ):
        ran = command(*words, "--json")
        document = ran.json
        assert (ran.status, document["ok"], document["schema"]) == (3, False, name_of(schema)), words
        assert document["error"] is not None or any(f["severity"] == "blocks" for f in document["findings"]), words
    refused = command("archive", tmp_path / "other", drive, "--to", chest.folder).err
    assert "because drive cannot be archived now" in refused
    assert "drive: The chest" in refused


def test_interrupted_by_the_system_and_by_a_person(
    library: Path, chest: dunechest.Chest, tmp_path: Path, command: Command
) -> None:
    from dunechest.jobs.archive.doing import archiving as door

    other = tmp_path / "other"
    other.mkdir()
    (other / "knots.txt").write_text("bowline")
    whole = door.carry_out

    def second_fails(plan: Any, **more: Any) -> Any:
        if plan.library.name == "other":
            raise KeyboardInterrupt
        return whole(plan, **more)

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(door, "carry_out", second_fails)
        ran = command("archive", library, other, "--to", chest.folder, "--json")
    document = ran.json
    assert (ran.status, document["error"]["code"]) == (130, "interrupted")
    assert [item["name"] for item in document["libraries"]] == ["shed"], "what was done is told"
    command("chest", "list")
    chest.folder.parent.rename(tmp_path / "elsewhere")
    for schema, words in (
        ("verify", ("verify", "blue")),
        ("restore", ("restore", "blue", "shed")),
        ("drill", ("drill", "blue")),
        ("chest-show", ("chest", "show", "blue")),
        ("editions-list", ("editions", "list", "blue", "shed")),
        ("archive", ("archive", library, "--to", "blue")),
    ):
        ran = command(*words, "--json")
        assert (ran.status, ran.json["error"]["code"], ran.json["schema"]) == (
            4,
            "not-connected",
            name_of(schema),
        )


def test_wrong_usage_of_every_command(command: Command) -> None:
    for name, group in every_command():
        if hasattr(group, "commands") and group.commands:
            continue
        words = name.split()
        ran = command(*words, "--no-such-option", "--json")
        document = ran.json
        assert (ran.status, document["exit_status"], document["error"]["code"]) == (2, 2, "usage"), name
        assert document["error"]["hint"] == f"Try: dunechest {name} --help"
        assert document["schema"].split("/")[1] in (name.replace(" ", "-"), "error")
    assert command("no-such-command", "--json").json["schema"] == "dunechest/error/1"


def test_a_fault_of_the_program_itself_is_told_in_the_document(
    command: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    from dunechest.jobs.known import chests as known_chests

    def fails() -> None:
        raise ZeroDivisionError("an odd tide")

    monkeypatch.setattr(known_chests, "list_chests", fails)
    ran = command("chest", "list", "--json")
    assert (ran.status, ran.json["error"]["code"]) == (70, "fault")
    assert "Traceback" in ran.err


def test_the_common_options_stand_before_or_after_the_command(command: Command) -> None:
    for words in (
        ("--json", "chest", "list"),
        ("chest", "--json", "list"),
        ("chest", "list", "--json"),
        ("--no-progress", "--verbose", "--json", "chest", "list"),
    ):
        assert command(*words).json["command"] == "chest list"
    assert command("--quiet", "chest", "list").out == ""


def test_the_command_and_the_library_tell_the_same(library: Path, chest: dunechest.Chest, command: Command) -> None:
    def same(told: dict[str, Any], value: Any) -> None:
        from_python = value.to_dict()
        assert told.keys() == from_python.keys()
        differing = {key for key in told if told[key] != from_python[key]}
        assert differing <= {"seconds", "drive"}, differing

    def only(*words: Any) -> Any:
        return command(*words, "--json").library

    first = command("archive", library, "--to", chest.folder, "--json").json["libraries"][0]
    (again,) = dunechest.archive(library, chest)
    assert first.keys() == again.to_dict().keys()
    same(only("archive", library, "--to", chest.folder), again)
    same(only("look", library), dunechest.look(library))
    found = command("find", library.parent, "--json").json
    assert found["unknown_folders"] == dunechest.find_libraries(library.parent).to_dict()["unknown_folders"]
    same(only("verify", chest.folder), dunechest.verify(chest).libraries[0])
    same(only("editions", "list", chest.folder, "shed"), dunechest.list_editions(chest, "shed"))
    shown = command("chest", "show", chest.folder, "--json").json
    assert shown["libraries"] == dunechest.show_chest(chest).to_dict()["libraries"]
    listed = command("restore", chest.folder, "--json").json["libraries"]
    assert listed == [offer.to_dict() for offer in dunechest.offers(chest)]


def _properties(schema: Any, name: str = "") -> Iterator[tuple[str, Any]]:
    if isinstance(schema, dict):
        for key, inner in schema.get("properties", {}).items() if isinstance(schema.get("properties"), dict) else ():
            yield key, inner
        for key, inner in schema.items():
            yield from _properties(inner, key)
    elif isinstance(schema, list):
        for inner in schema:
            yield from _properties(inner, name)


#: Numbers that are no counts, and lists whose names have no plural.
NUMBERS = {
    "edition",
    "first_edition",
    "last_edition",
    "last_seen_edition",
    "exit_status",
    "status",
    "process_id",
    "longest_name",
}
LISTS = {
    "evidence",
    "contains",
    "left_out",
    "left_behind",
    "partial",
    "command",
    "set_aside",
    "renamed",
    "not_restored",
}
LISTS |= {"changed_since", "references_by_hand", "searched_paths", "differing"}


@pytest.mark.parametrize("name", sorted(BODIES))
def test_names_keep_the_rules(name: str) -> None:
    for key, schema in _properties(schema_of(name)):
        forms = [schema, *schema.get("anyOf", [])]
        types = {form.get("type") for form in forms}
        assert key == key.lower(), key
        if "integer" in types or "number" in types:
            known = key in NUMBERS or "seconds" in key or key == "bytes_per_second"
            assert known or key.endswith(("_bytes", "_count")), key
        if any(form.get("format") == "date-time" for form in forms):
            assert key.endswith("_at"), key
        if key.endswith("_at"):
            assert any(form.get("format") == "date-time" for form in forms), key
        if "array" in types:
            assert key.endswith("s") or key in LISTS, key
        if key.endswith(("_bytes", "_count")):
            assert types & {"integer"}, key


def test_the_published_schemas_are_up_to_date(command: Command) -> None:
    ran = subprocess.run(
        [sys.executable, ROOT / "scripts" / "schemas.py", "--check"], capture_output=True, text=True, check=False
    )
    assert ran.returncode == 0, ran.stderr
    for name in BODIES:
        assert json.loads(command("schema", *name.split("-", 1)).out) == schema_of(name)
    assert "Did you mean 'verify'" in command("schema", "verfy").err


def test_odd_names_are_whole_in_the_document(tmp_path: Path, chest: dunechest.Chest, command: Command) -> None:
    """A name that is not UTF-8, or that would act on a terminal, comes through JSON as it is."""
    library = tmp_path / "lib"
    library.mkdir()
    odd = os.fsdecode(b"caf\xe9 \x1b[31m\nred")
    (library / odd).write_text("x")
    ran = command("archive", library, "--to", chest.folder, "--plan", "--json")
    assert ran.library["files"][0]["path"] == odd
    assert all(32 <= ord(char) < 127 or char == "\n" for char in ran.out)


def test_events_are_lines_of_json_that_a_program_follows(library: Path, drive: Path, command: Command) -> None:
    command("chest", "new", drive, "--label", "blue")
    ran = command("archive", library, "--to", "blue", "--json-events", "--json")
    assert (ran.status, ran.json["ok"]) == (0, True)
    lines = [json.loads(line) for line in ran.err.splitlines()]
    for line in lines:
        jsonschema.validate(line, schema_of("event"), format_checker=jsonschema.FormatChecker())
    stages = [line["stage"] for line in lines]
    assert stages.index("copying") < stages.index("finishing") < stages.index("cataloguing")
    last = [line for line in lines if line["stage"] == "copying"][-1]
    assert (last["about"], last["done_count"], last["done_bytes"]) == (
        "shed",
        last["total_count"],
        last["total_bytes"],
    )
    assert json.loads(command("schema", "event").out)["$id"] == lines[0]["schema"]
    assert not command("verify", "blue").err
    told = command("--json-events", "verify", "blue", "--quiet").err
    assert '"verifying"' in told and "\x1b" not in told


def test_every_stage_has_its_words() -> None:
    assert set(STAGE_WORDS) == set(typing.get_args(Stage))
