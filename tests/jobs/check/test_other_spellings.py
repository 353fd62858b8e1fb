"""A chest whose files were copied or renamed so that only case or accents of their names differ from the lists."""

from __future__ import annotations

import unicodedata
from pathlib import Path

import pytest

import dunechest
from tests.support.runs import Command
from tests.support.trees import bag_of, facts


@pytest.fixture
def places(library: Path, chest: dunechest.Chest) -> Path:
    """The payload of an archived library with accents; two editions."""
    (library / "Été").mkdir()
    (library / "Été" / "Ångström.txt").write_text("first")
    dunechest.archive(library, chest)
    (library / "Été" / "Ångström.txt").write_text("second")
    dunechest.archive(library, chest)
    return bag_of(chest, "shed") / "data" / "library"


def only_files(folder: Path) -> dict[bytes, object]:
    return {path: fact for path, fact in facts(folder).items() if fact[0] != "folder"}


def respell(data: Path) -> None:
    """Do what a copying program with accents of its own does, and a person who likes capitals."""
    for path in sorted(data.rglob("*"), reverse=True):
        path.rename(path.with_name(unicodedata.normalize("NFD", path.name)))
    (data / "rafters").rename(data / "Rafters")
    (data / "rope.txt").rename(data / "ROPE.TXT")


def test_they_are_found_and_get_their_names_back(
    library: Path, chest: dunechest.Chest, places: Path, tmp_path: Path, command: Command
) -> None:
    before = only_files(places)
    respell(places)
    (checked,) = dunechest.verify(chest).libraries
    assert {state.state for state in checked.problems} == {"missing"} and len(checked.problems) == 4
    assert all("the same name written otherwise" in state.why for state in checked.problems)
    for edition, word in ((2, "second"), (1, "first")):
        place = tmp_path / f"back {edition}"
        done = dunechest.restore(chest, "shed", dunechest.RestoreOptions(into=str(place), edition=edition))
        assert done.ok and (place / "Été" / "Ångström.txt").read_text() == word
    assert facts(tmp_path / "back 2") == facts(library)
    assert "it is called data/library/ROPE.TXT" in command("mend", chest.folder, "--plan").out
    ran = command("mend", chest.folder)
    assert ran.status == 0 and "Mended 4 files" in ran.out, ran.out
    assert only_files(places) == before and dunechest.verify(chest).ok
    assert "Nothing to mend" in command("mend", chest.folder).out


def test_another_file_under_such_a_name_is_not_taken_for_it(
    chest: dunechest.Chest, places: Path, tmp_path: Path
) -> None:
    (places / "rope.txt").unlink()
    (places / "Rope.txt").write_text("thirty metre\n")  # of the same length
    done = dunechest.restore(chest, "shed", dunechest.RestoreOptions(into=str(tmp_path / "back")))
    assert [item.path for item in done.not_restored] == ["rope.txt"] and not (tmp_path / "back/rope.txt").exists()
    (mended,) = dunechest.mend(chest, helpers=[])
    assert [path for path, _ in mended.unmended_files] == ["data/library/rope.txt"]
    assert (places / "Rope.txt").read_text() == "thirty metre\n"
    # With two that may be meant, none is.
    (places / "ROPE.txt").write_text("twenty metres\n")
    assert any(state.state == "unlisted" for state in dunechest.verify(chest).libraries[0].problems)
    assert [path for path, _ in dunechest.mend(chest, helpers=[])[0].other_files] == [
        "data/library/ROPE.txt",
        "data/library/Rope.txt",
    ]
