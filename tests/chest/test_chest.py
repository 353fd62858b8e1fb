"""The chest's own records: whatever lies in them, nothing breaks and nothing is lost."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path
from typing import Any

import msgspec
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import dunechest
from dunechest.chest import chest_record, journal, records, texts
from dunechest.chest.journal import Rename
from dunechest.errors import ChestUnusableError
from dunechest.names import from_wire, to_wire
from tests.support.runs import Command
from tests.support.trees import bag_of, facts

ROOT = Path(__file__).resolve().parents[2]
anything = st.recursive(
    st.none()
    | st.booleans()
    | st.integers()
    | st.floats(allow_nan=False, allow_infinity=False)
    | st.text(max_size=8),
    lambda inner: st.lists(inner, max_size=4) | st.dictionaries(st.text(max_size=8), inner, max_size=4),
    max_leaves=12,
)


@given(anything | st.binary(max_size=60))
@settings(max_examples=150)
def test_no_chest_record_breaks_the_reader(tmp_path_factory: pytest.TempPathFactory, content: Any) -> None:
    folder = tmp_path_factory.mktemp("record")
    raw = content if isinstance(content, bytes) else json.dumps(content).encode()
    (folder / "chest.json").write_bytes(raw)
    with pytest.raises(ChestUnusableError):
        chest_record.read_chest(folder)
    assert (folder / "chest.json").read_bytes() == raw


@given(st.sampled_from(records.LibraryRecord.__struct_fields__), anything)
@settings(max_examples=150)
def test_no_field_of_a_library_record_breaks_anything(
    tmp_path_factory: pytest.TempPathFactory, field: str, value: Any
) -> None:
    record = json.loads(msgspec.json.encode(LIBRARY))
    record[field] = value
    try:
        read = records.decode_library(json.dumps(record).encode(), tmp_path_factory.mktemp("bag"))
    except ChestUnusableError:
        return
    texts.how_to_restore(read, "bag", 0).decode("ascii", "replace")


LIBRARY = records.LibraryRecord(
    format=1,
    name="Shed",
    kind="folder",
    kind_title="Plain folder",
    application="",
    shape="folder",
    origin=records.Origin("0" * 32, "office-pc", "linux", "/home/tern/shed", "home", "shed"),
    edition=1,
    archived="2026-11-24T10:00:00Z",
    archived_with="dunechest",
    totals=records.Totals(1, 2, 1, 2, 0, 0, 1, 2),
)


@given(st.binary(min_size=1, max_size=40))
def test_every_name_survives_json(raw: bytes) -> None:
    name = raw.decode("utf-8", "surrogateescape")
    line = msgspec.json.encode(records.LinkRecord(to_wire(name), to_wire(name), 0))
    line.decode()
    back = msgspec.json.decode(line, type=records.LinkRecord)
    assert from_wire(back.path) == from_wire(back.target) == name


@given(st.lists(st.binary(max_size=60), max_size=8))
def test_torn_lines_are_passed_over_and_counted(tmp_path_factory: pytest.TempPathFactory, junk: list[bytes]) -> None:
    path = tmp_path_factory.mktemp("lines") / "files.jsonl"
    good = records.FileRecord("library/a", 1, 2, 3, "0" * 64)
    lines = [line.replace(b"\n", b"") for line in junk]
    path.write_bytes(b"\n".join([*lines, records.encode_line(good)]))
    read = list(records.read_lines(path, records.FileRecord))
    assert read[-1] == (len(lines) + 1, good)


def test_records_come_back_as_written(tmp_path: Path) -> None:
    assert records.decode_library(records.encode_pretty(LIBRARY), tmp_path) == LIBRARY
    chest = records.ChestRecord(1, "f" * 32, "blue \u2603", "2026-01-01T00:00:00Z")
    chest_record.write_chest(tmp_path, chest)
    assert chest_record.read_chest(tmp_path) == (chest, ())


def test_fields_of_a_later_minor_version_are_passed_over(tmp_path: Path) -> None:
    document = {"format": 1, "id": "f" * 32, "label": "x", "made": "2026-01-01T00:00:00Z", "colour": ["new", {}]}
    (tmp_path / "chest.json").write_text(json.dumps(document))
    assert chest_record.read_chest(tmp_path)[0].label == "x"


def test_a_link_in_place_of_a_record_is_not_followed(
    tmp_path: Path, chest: dunechest.Chest, command: Command
) -> None:
    real = tmp_path / "real.json"
    (chest.folder / "chest.json").rename(real)
    (chest.folder / "chest.json").symlink_to(real)
    assert command("verify", chest.folder).status == 1
    assert "chest.json" in command("verify", chest.folder).out


steps = st.lists(
    st.tuples(st.sampled_from("abc"), st.sampled_from(["data", "bagit.txt", "dune/x", "dune/deep/er/y"])),
    max_size=3,
    unique_by=(lambda s: s[0], lambda s: s[1]),
)


@given(steps, st.integers(0, 3))
def test_a_journal_ends_the_same_wherever_it_was_cut(
    tmp_path_factory: pytest.TempPathFactory, some: list[tuple[str, str]], cut: int
) -> None:
    bag = tmp_path_factory.mktemp("bag")
    (bag / "dune" / "pending").mkdir(parents=True)
    renames = tuple(Rename(f"dune/pending/{old}", new) for old, new in some)
    for old, new in some:
        (bag / "dune" / "pending" / old).write_text(new)
    journal.write(bag, (renames,))
    for step in renames[:cut]:
        (bag / step.new).parent.mkdir(parents=True, exist_ok=True)
        (bag / step.old).rename(bag / step.new)
    decided = journal.read(bag)
    assert decided == (renames,)
    journal.carry_out(bag, decided)
    assert all((bag / new).read_text() == new for _, new in some)
    assert not (bag / "dune" / "pending").exists()
    journal.carry_out(bag, decided)


def test_a_journal_does_not_go_through_a_link(tmp_path: Path) -> None:
    bag, outside = tmp_path / "bag", tmp_path / "outside"
    outside.mkdir()
    (bag / "dune" / "pending").mkdir(parents=True)
    (bag / "dune" / "pending" / "a").write_text("x")
    (bag / "door").symlink_to(outside)
    journal.write(bag, ((Rename("dune/pending/a", "door/planted"),),))
    steps_ = journal.read(bag)
    assert steps_ is not None
    with pytest.raises(ChestUnusableError, match="is a link"):
        journal.carry_out(bag, steps_)
    assert list(outside.iterdir()) == []


def test_a_link_in_place_of_a_bag_is_not_written_through(
    library: Path, chest: dunechest.Chest, tmp_path: Path, command: Command
) -> None:
    outside = tmp_path / "outside"
    outside.mkdir()
    (chest.folder / "bags" / "shed").symlink_to(outside)
    ran = command("archive", library, "--to", chest.folder)
    assert ran.status == 3
    assert list(outside.iterdir()) == []


def test_a_chest_on_a_read_only_place_can_be_read(library: Path, chest: dunechest.Chest, tmp_path: Path) -> None:
    dunechest.archive([library], chest)
    assert dunechest.verify(dunechest.Chest.open(chest.folder)).ok
    before = facts(chest.folder)
    dunechest.restore(
        dunechest.Chest.open(chest.folder), "shed", dunechest.RestoreOptions(into=str(tmp_path / "back"))
    )
    assert facts(chest.folder) == before, "reading a chest changes nothing in it"


def test_a_chest_without_its_bags_folder_is_refused(chest: dunechest.Chest, command: Command) -> None:
    (chest.folder / "bags").rmdir()
    ran = command("chest", "show", chest.folder)
    assert ran.status == 3
    assert "bags is missing" in ran.err


@pytest.mark.parametrize("name", ["", "..", "a/b", "UPPER", "con", "x" * 81, "a b"])
def test_names_of_bags_are_plain(name: str, library: Path, chest: dunechest.Chest, command: Command) -> None:
    assert command("archive", library, "--to", chest.folder, "--as", name).status == 2
    assert chest.bags() == ()


def test_one_name_for_several_libraries_is_refused(library: Path, chest: dunechest.Chest, command: Command) -> None:
    assert command("archive", library, library / "rafters", "--to", chest.folder, "--as", "x").status == 2


def test_the_commands_page_is_up_to_date() -> None:
    script = ROOT / "scripts" / "command_reference.py"
    ran = subprocess.run([sys.executable, script, "--check"], capture_output=True, text=True, check=False)
    assert ran.returncode == 0, ran.stderr


def test_every_picture_is_linked_from_the_readme() -> None:
    readme = (ROOT / "README.md").read_text()
    pictures = sorted((ROOT / "docs" / "screenshots").glob("*.png"))
    assert 0 < len(pictures) < 20
    assert [p.name for p in pictures if p.name not in readme] == []


def test_the_bag_is_remembered_as_this_machine_made_it(library: Path, chest: dunechest.Chest) -> None:
    import hashlib

    from dunechest.ledger.ledger import open_ledger

    dunechest.archive([library], chest)
    top = hashlib.sha512((bag_of(chest, "shed") / "tagmanifest-sha512.txt").read_bytes()).hexdigest()
    with open_ledger() as ledger:
        assert ledger.archived_here(chest.id, "shed", top)
        assert not ledger.archived_here(chest.id, "shed", "0" * 128)
        assert not ledger.archived_here("another", "shed", top)
