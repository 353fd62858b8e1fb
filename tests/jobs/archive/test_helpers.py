"""What helpers see while a library is archived is what the archive itself would have seen."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import pytest

import dunechest
from dunechest.jobs.archive import several, unchanged
from dunechest.jobs.archive.doing import archiving, second_look
from dunechest.transfer import fingerprints, helpers
from dunechest.transfer.helpers import Asked
from tests.support.runs import Command
from tests.support.trees import bag_of

ASKED: list[object] = []


@pytest.fixture(params=["one helper", "several"])
def helped(request: pytest.FixtureRequest, monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    """Helpers look at any library, however small."""
    for module in (several, unchanged, second_look, helpers):
        monkeypatch.setattr(module, "WORTH_ASKING", 1)
    if request.param == "several":
        for module in (several, fingerprints):
            monkeypatch.setattr(module, "MANY", 1)
    ASKED.clear()
    asked = Asked.outcome
    monkeypatch.setattr(Asked, "outcome", lambda self: (ASKED.append(self._helper), asked(self))[1])
    yield
    assert any(helper is not None for helper in ASKED), "a helper did look"


@pytest.mark.usefixtures("helped")
@pytest.mark.parametrize("harm", ["gone", "shorter", "another beside it"])
def test_what_the_chest_lost_is_seen(library: Path, chest: dunechest.Chest, command: Command, harm: str) -> None:
    assert command("archive", library, "--to", chest.folder).status == 0
    assert "Unchanged" in command("archive", library, "--to", chest.folder).out
    stored = bag_of(chest, "shed") / "data/library/rope.txt"
    if harm == "gone":
        stored.unlink()
    elif harm == "shorter":
        stored.write_bytes(stored.read_bytes()[:-1])
    else:
        (stored.parent / "extra.txt").write_text("x")
    (library / "new.txt").write_text("new")
    ran = command("archive", library, "--to", chest.folder)
    assert ran.status == 0, ran.err
    assert ("copied again" in ran.out) == (harm != "another beside it")
    verified = command("verify", chest.folder)
    assert (verified.status == 0) == (harm != "another beside it"), verified.out
    assert bag_of(chest, "shed").joinpath("data/library/new.txt").read_text() == "new"


@pytest.mark.usefixtures("helped")
def test_a_chest_that_lost_a_file_has_not_the_library_just_so(
    library: Path, chest: dunechest.Chest, command: Command
) -> None:
    assert command("archive", library, "--to", chest.folder).status == 0
    stored = bag_of(chest, "shed") / "data/library/rope.txt"
    stored.write_bytes(stored.read_bytes() + b"more")
    ran = command("archive", library, "--to", chest.folder)
    assert "copied again" in ran.out
    assert stored.read_bytes() == (library / "rope.txt").read_bytes()


@pytest.mark.usefixtures("helped")
def test_of_many_libraries_few_helpers_are_at_work_at_once(
    tmp_path: Path, chest: dunechest.Chest, monkeypatch: pytest.MonkeyPatch
) -> None:
    libraries = [tmp_path / f"library {number}" for number in range(8)]
    for library in libraries:
        (library / "a" / "b").mkdir(parents=True)
        (library / "a" / "b" / "f.txt").write_text(library.name)
    dunechest.archive(libraries, chest)
    most: list[int] = []
    new = helpers._start
    monkeypatch.setattr(helpers, "_start", lambda: (most.append(1), new())[1])
    for library in libraries[1:]:
        (library / "new.txt").write_text("new")
    results = dunechest.archive(libraries, chest)
    assert [result.state for result in results] == ["unchanged", *["archived"] * 7]
    assert len(most) <= 4


@pytest.mark.usefixtures("helped")
@pytest.mark.parametrize("change", ["a new file", "other content", "a new folder"])
def test_what_comes_while_it_is_archived_is_told(
    library: Path, chest: dunechest.Chest, command: Command, monkeypatch: pytest.MonkeyPatch, change: str
) -> None:
    assert command("archive", library, "--to", chest.folder).status == 0
    (library / "first.txt").write_text("first")
    copy = archiving.copy
    changes: dict[str, Callable[[], Any]] = {
        "a new file": lambda: (library / "late.txt").write_text("late"),
        "other content": lambda: (library / "first.txt").write_text("and more of it"),
        "a new folder": (library / "late").mkdir,
    }

    def copy_and_change(*words: Any) -> None:
        copy(*words)
        changes[change]()

    monkeypatch.setattr(archiving, "copy", copy_and_change)
    ran = command("archive", library, "--to", chest.folder)
    told = {"a new file": "late.txt", "other content": "first.txt"}.get(change)
    assert (ran.status, told is None or told in ran.out) == (0 if told is None else 1, True), ran.out
