"""Editions: made, listed, compared, thinned, and every one of them had back exactly."""

from __future__ import annotations

import datetime
import json
import os
import random
import shutil
import subprocess
import zipfile
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

import dunechest
from dunechest.chest import pieces
from dunechest.demo.applications.tidewrack import Tidewrack
from dunechest.demo.world import World
from dunechest.jobs import thinning, thinning_rule
from dunechest.transfer import copying

from .conftest import Command, bag_of, facts, flip, sha512sum
from .test_world import Move

UTC = datetime.UTC


def archive(library: Path, chest: dunechest.Chest, **rest: Any) -> Any:
    (account,) = dunechest.archive([library], chest, **rest)
    return account


def back(chest: dunechest.Chest, name: str, number: int, place: Path) -> dict[bytes, tuple[Any, ...]]:
    result = dunechest.restore(chest, name, into=place, edition=number)
    assert result.well, result.not_done
    found = facts(place)
    shutil.rmtree(place)
    return found


def test_every_edition_comes_back_exactly(library: Path, chest: dunechest.Chest, tmp_path: Path) -> None:
    truth = {1: facts(library)}
    archive(library, chest)
    (library / "rope.txt").write_text("nineteen metres\n")
    (library / "rafters" / "oar.txt").rename(library / "oar.txt")
    (library / "link").symlink_to("rope.txt")
    truth[2] = facts(library)
    account = archive(library, chest)
    assert (account.edition, account.kept) == (2, 2)
    assert (account.changes.changed, account.changes.moved, account.changes.added) == (1, 1, 0)
    shutil.rmtree(library / "rafters")
    (library / "empty").rmdir()
    (library / "link").unlink()
    (library / "rope.txt").chmod(0o600)
    os.utime(library / "rope.txt", (1, 1))
    truth[3] = facts(library)
    account = archive(library, chest)
    assert (account.changes.dropped, account.changes.changed, account.changes.bytes_added) == (1, 0, 0)
    for number, content in truth.items():
        assert back(chest, "shed", number, tmp_path / "back") == content, number
    data = bag_of(chest, "shed") / "data" / "library"
    assert {p.name for p in data.rglob("*")} == {"rope.txt", "oar.txt"}, (
        "data is the current edition, whole and plain"
    )
    assert (bag_of(chest, "shed") / "dune/earlier/0001/library/rope.txt").read_text() == "twenty metres\n"
    assert sha512sum(bag_of(chest, "shed")).returncode == 0
    assert dunechest.verify(chest).well
    with pytest.raises(dunechest.WordsOff, match="It has: 1, 2, 3"):
        dunechest.restore(chest, "shed", into=tmp_path / "back", edition=4)


@pytest.mark.parametrize("seed", range(4))
def test_random_walks(seed: int, tmp_path: Path, chest: dunechest.Chest) -> None:
    rng = random.Random(seed)
    library = tmp_path / "lib"
    library.mkdir()
    names = [f"{a}/{b}" for a in ("x", "y", "x/z", "X") for b in ("1", "2", "é")] + ["top", "x.d"]
    truth = {}
    for _ in range(7):
        for _ in range(rng.randint(1, 5)):
            files = [p for p in library.rglob("*") if p.is_file()]
            goal = library / rng.choice(names)
            dice = rng.random()
            try:
                if dice < 0.5 or not files:
                    goal.parent.mkdir(parents=True, exist_ok=True)
                    goal.write_bytes(rng.choice([b"a", b"", rng.randbytes(rng.randint(0, 3000))]))
                elif dice < 0.65:
                    rng.choice(files).unlink()
                elif dice < 0.85:
                    goal.parent.mkdir(parents=True, exist_ok=True)
                    rng.choice(files).rename(goal)
                elif dice < 0.9:
                    shutil.rmtree(
                        rng.choice(files).parent if len(files) > 3 else library / "none", ignore_errors=True
                    )
                    library.mkdir(exist_ok=True)
                else:
                    os.utime(rng.choice(files))
            except (IsADirectoryError, NotADirectoryError, FileExistsError):
                continue
        account = archive(library, chest, despite=["mass-change"], reread=rng.random() < 0.3)
        assert account.well
        if account.state != "unchanged":
            truth[account.edition] = facts(library)
        assert dunechest.verify(chest).well
    for number, content in truth.items():
        assert back(chest, "lib", number, tmp_path / "back") == content


def test_only_what_is_new_is_read_and_written(
    library: Path, chest: dunechest.Chest, monkeypatch: pytest.MonkeyPatch
) -> None:
    archive(library, chest)
    kept = bag_of(chest, "shed") / "data" / "library" / "rafters" / "big.bin"
    inode = kept.stat().st_ino
    (library / "new.txt").write_text("new")
    (library / "rafters" / "big.bin").rename(library / "bigger.bin")
    opened: list[str] = []
    true = os.open

    def watch(path: Any, *rest: Any, **more: Any) -> int:
        opened.append(os.fsdecode(path) if isinstance(path, (str, bytes, os.PathLike)) else "")
        return true(path, *rest, **more)

    monkeypatch.setattr(copying.os, "open", watch)
    account = archive(library, chest)
    monkeypatch.undo()
    read = {path for path in opened if path.startswith(str(library)) and Path(path).is_file()}
    assert read == {str(library / "new.txt"), str(library / "bigger.bin")}
    assert account.changes.bytes_added == 3
    moved = bag_of(chest, "shed") / "data" / "library" / "bigger.bin"
    assert moved.stat().st_ino == inode, "renamed in the bag, not copied again"


def test_an_unchanged_library_is_recognised_without_opening_a_file(
    library: Path, chest: dunechest.Chest, monkeypatch: pytest.MonkeyPatch
) -> None:
    archive(library, chest)
    before = facts(bag_of(chest, "shed"))
    true = os.open

    def refuse(path: Any, *rest: Any, **more: Any) -> int:
        name = os.fsdecode(path) if isinstance(path, (str, bytes, os.PathLike)) else ""
        assert not (name.startswith(str(library)) and Path(name).is_file()), name
        assert "/data/" not in name
        return true(path, *rest, **more)

    monkeypatch.setattr(os, "open", refuse)
    assert archive(library, chest).state == "unchanged"
    monkeypatch.undo()
    assert facts(bag_of(chest, "shed")) == before


def test_a_silent_change_is_found_by_reread_and_by_compare(
    library: Path, chest: dunechest.Chest, command: Command, tmp_path: Path
) -> None:
    archive(library, chest)
    assert archive(library, chest, reread=True).state == "unchanged"
    flip(library / "rafters" / "oar.txt")
    assert archive(library, chest).state == "unchanged", "size and time are the same"
    ran = command("compare", library, f"{chest.folder}/shed", "--json")
    assert ran.status == 1
    assert [(u["path"], u["what"]) for u in ran.json["unlike"]] == [("rafters/oar.txt", "silent")]
    assert "silent: rafters/oar.txt" in command("compare", library, f"{chest.folder}/shed").out
    ran = command("archive", library, "--to", chest.folder, "--reread", "--json")
    assert ran.status == 1
    assert ran.json["archived"][0]["silent_changes"] == ["rafters/oar.txt"]
    assert command("compare", library, f"{chest.folder}/shed").status == 0
    ran = command("compare", f"{chest.folder}/shed@1", f"{chest.folder}/shed@2", "--json")
    assert [u["path"] for u in ran.json["unlike"]] == ["rafters/oar.txt"]
    frame = dunechest.compare(str(library), f"{chest.folder}/shed@1").to_frame()
    assert list(frame["what"]) == ["silent"]


@pytest.mark.parametrize("words", [("x", "y"), ("/tmp", "nope/shed"), ("/tmp@2", "/tmp")])
def test_places_that_cannot_be_compared(words: tuple[str, str], command: Command) -> None:
    assert command("compare", *words).status == 2


def test_editions_are_listed(library: Path, chest: dunechest.Chest, command: Command) -> None:
    archive(library, chest)
    assert "It is the only one kept" in command("editions", chest.folder, "shed").out
    (library / "a\x1b[31m.txt").write_text("x")
    (library / "rope.txt").write_text("cut")
    (library / "rafters" / "oar.txt").rename(library / "oar.txt")
    (library / "rafters" / "big.bin").unlink()
    archive(library, chest)
    ran = command("editions", chest.folder, "shed")
    assert "\x1b" not in ran.out
    for words in (
        "edition 1",
        "edition 2",
        "current",
        "1 added, 1 changed, 1 moved, 1 dropped",
        "was rafters/oar.txt",
    ):
        assert words in ran.out
    seen = command("editions", chest.folder, "shed", "--json").json
    assert seen["editions"][1]["changes"] == {"added": 1, "changed": 1, "moved": 1, "dropped": 1, "bytes_added": 4}
    assert {c["what"] for c in seen["editions"][1]["named"]} == {"added", "changed", "moved", "dropped"}
    listed = dunechest.list_editions(chest, "shed")
    assert list(listed.to_frame()["number"]) == [1, 2]
    assert listed.earlier_bytes == 256_000 + len("twenty metres\n")
    for number in range(130):
        (library / f"many {number:03}").write_text("x")
    archive(library, chest)
    assert len(dunechest.list_editions(chest, "shed").editions[2].named) == 100
    assert command("editions", chest.folder, "no-such").status == 2


def test_what_cannot_be_read_stays_as_it_was(
    library: Path, chest: dunechest.Chest, monkeypatch: pytest.MonkeyPatch, tmp_path: Path
) -> None:
    archive(library, chest)
    (library / "rope.txt").write_text("a new rope")
    true = os.open

    def bad_sector(path: Any, *rest: Any, **more: Any) -> int:
        if os.fsdecode(path if isinstance(path, (str, bytes, os.PathLike)) else "") == str(library / "rope.txt"):
            raise OSError(5, "Input/output error")
        return true(path, *rest, **more)

    (library / "other.txt").write_text("fine")
    monkeypatch.setattr(copying.os, "open", bad_sector)
    account = archive(library, chest)
    monkeypatch.undo()
    assert not account.well
    (left,) = account.left_out
    assert (left.path, left.fault) == ("rope.txt", True)
    assert "as edition 1 had it" in left.why
    assert dunechest.restore(chest, "shed", into=tmp_path / "b").files == 4
    assert (tmp_path / "b" / "rope.txt").read_text() == "twenty metres\n"
    assert (tmp_path / "b" / "other.txt").exists()
    assert dunechest.verify(chest).well


def test_notes_get_editions_too(world: World, on_machine: Move, tmp_path: Path) -> None:
    on_machine("office-pc")
    chest = dunechest.Chest.create(world.blue, "blue")
    notes = Tidewrack(world.office_home)
    counts = {}
    for number in (1, 2, 3):
        with notes.open() as opened:
            counts[number] = opened.counts["notes"]
            notes.write(f"note {number}", "written meanwhile")
            counts[number] += 1
        account = archive(world.notes, chest)
        assert (account.edition, account.well) == (number, True)
        assert archive(world.notes, chest).state == "unchanged"
    for number, count in counts.items():
        dunechest.restore(chest, "tidewrack", into=tmp_path / str(number) / ".tidewrack", edition=number)
        with Tidewrack(tmp_path / str(number)).open() as opened:
            assert opened.counts["notes"] == count


# A surprise.


@pytest.fixture
def many(tmp_path: Path) -> Path:
    place = tmp_path / "many"
    place.mkdir()
    for number in range(60):
        (place / f"{number:02}.txt").write_text(f"content {number}")
    return place


@pytest.mark.parametrize("how", ["vanished", "encrypted", "renamed and encrypted"])
def test_a_large_share_that_changes_at_once_stops(
    how: str, many: Path, chest: dunechest.Chest, command: Command, tmp_path: Path
) -> None:
    truth = facts(many)
    archive(many, chest)
    for path in sorted(many.iterdir())[:40]:
        if how == "vanished":
            path.unlink()
        else:
            path.write_bytes(os.urandom(path.stat().st_size))
            if how != "encrypted":
                path.rename(path.with_suffix(".locked"))
    ran = command("archive", many, "--to", chest.folder, "--json")
    assert (ran.status, ran.json["findings"][0]["code"]) == (3, "mass-change")
    assert dunechest.list_editions(chest, "many").editions[-1].number == 1
    ran = command("archive", many, "--to", chest.folder, "--despite", "mass-change")
    assert ran.status == 0
    assert back(chest, "many", 1, tmp_path / "back") == truth
    assert "mass change" in command("editions", chest.folder, "many").out
    plan = dunechest.plan_thinning(chest, "many", "the last 1")
    assert (plan.kept, plan.dropped, plan.exempt) == ((1, 2), (), (1,))


@pytest.mark.parametrize("how", ["moved", "touched", "added", "a few"])
def test_what_is_no_surprise(how: str, many: Path, chest: dunechest.Chest) -> None:
    archive(many, chest)
    paths = sorted(many.iterdir())
    if how == "moved":
        (many / "sub").mkdir()
        for path in paths:
            path.rename(many / "sub" / path.name)
    elif how == "touched":
        for path in paths:
            os.utime(path)
    elif how == "added":
        for number in range(200):
            (many / f"new {number}").write_text(str(number))
    else:
        for path in paths[:19]:
            path.unlink()
    account = archive(many, chest)
    assert account.edition == 2
    assert account.changes.bytes_added == (sum(len(str(n)) for n in range(200)) if how == "added" else 0)


# Thinning.

NOW = datetime.datetime(2026, 11, 24, 12, tzinfo=UTC)
DAYS = [NOW - datetime.timedelta(days=days) for days in (800, 500, 400, 90, 70, 65, 20, 10, 3, 0)]
RULES = [
    ("all of the last month", {7, 8, 9, 10}),
    ("the last 3", {8, 9, 10}),
    ("one a year for ever", {2, 3, 10} | {1}),
    ("one a month for a year", {4, 6, 10}),
    ("All of the last two weeks, one a month for 3 months; the last one", {6, 8, 9, 10}),
    ("all of the last 5 years", set(range(1, 11))),
]


@pytest.mark.parametrize(("rule", "kept"), RULES, ids=[r for r, _ in RULES])
def test_rules_in_plain_words(rule: str, kept: set[int]) -> None:
    clauses = thinning_rule.parse_rule(rule)
    found = thinning_rule.kept_by(clauses, list(enumerate(DAYS, start=1)), NOW)
    if rule.startswith("one a year"):
        kept = {max(n for n, d in enumerate(DAYS, 1) if d.year == year) for year in {d.year for d in DAYS}}
    if rule.startswith("one a month for a year"):
        young = [(n, d) for n, d in enumerate(DAYS, 1) if (NOW - d).days <= 366]
        kept = {max(n for n, d in young if (d.year, d.month) == m) for m in {(d.year, d.month) for _, d in young}}
    if "3 months" in rule:
        young = [(n, d) for n, d in enumerate(DAYS, 1) if (NOW - d).days <= 93]
        kept = {8, 9, 10} | {
            max(n for n, d in young if (d.year, d.month) == m) for m in {(d.year, d.month) for _, d in young}
        }
    assert found == kept


@pytest.mark.parametrize(
    "rule", ["", "some", "all of the last", "one a fortnight for ever", "the last zero", "all of the last 0 days"]
)
def test_rules_that_are_none(rule: str, library: Path, chest: dunechest.Chest, command: Command) -> None:
    archive(library, chest)
    with pytest.raises(dunechest.WordsOff, match="A rule reads"):
        thinning_rule.parse_rule(rule)
    if rule:
        assert command("editions", chest.folder, "shed", "--thin", rule).status == 2


@given(
    st.lists(st.integers(0, 3000), max_size=30), st.integers(1, 40), st.sampled_from(["day", "week", "month", "year"])
)
def test_a_rule_keeps_one_of_each_period(ages: list[int], number: int, unit: str) -> None:
    editions = [(n, NOW - datetime.timedelta(days=age)) for n, age in enumerate(sorted(ages, reverse=True), 1)]
    clauses = thinning_rule.parse_rule(f"one a {unit} for {number} {unit}s")
    kept = thinning_rule.kept_by(clauses, editions, NOW)
    assert kept <= {n for n, _ in editions}
    everything = thinning_rule.kept_by(thinning_rule.parse_rule("one a day for ever"), editions, NOW)
    assert len(everything) == len({when.date() for _, when in editions})


def test_thinning_lets_go_and_what_stays_comes_back(
    library: Path, chest: dunechest.Chest, command: Command, tmp_path: Path
) -> None:
    truth = {}
    for number in range(1, 7):
        (library / "rope.txt").write_text(f"{number} metres\n" * 200)
        (library / f"only in {number}").write_text(str(number) * 100)
        if number > 1:
            (library / f"only in {number - 1}").unlink()
        archive(library, chest)
        truth[number] = facts(library)
    before = sum(p.stat().st_size for p in bag_of(chest, "shed").rglob("*") if p.is_file())
    planned = facts(chest.folder)
    ran = command("editions", chest.folder, "shed", "--thin", "the last 2", "--plan", "--json")
    assert (ran.json["dropped"], ran.json["done"]) == ([1, 2, 3, 4], False)
    assert facts(chest.folder) == planned
    ran = command("editions", chest.folder, "shed", "--thin", "the last 2", "--json")
    assert ran.json["done"] is True
    after = sum(p.stat().st_size for p in bag_of(chest, "shed").rglob("*") if p.is_file())
    assert before - after == pytest.approx(ran.json["bytes"], abs=9000)
    for number in (5, 6):
        assert back(chest, "shed", number, tmp_path / "back") == truth[number]
    assert [e.number for e in dunechest.list_editions(chest, "shed").editions] == [5, 6]
    assert dunechest.verify(chest).well
    (library / "rope.txt").write_text("on it goes")
    assert archive(library, chest).edition == 7
    assert back(chest, "shed", 5, tmp_path / "back") == truth[5]
    assert "No edition goes" in command("editions", chest.folder, "shed", "--thin", "all of the last year").out
    assert command("editions", chest.folder, "shed", "--plan").status == 2


def test_the_ledger_still_knows_a_thinned_bag_as_its_own(
    library: Path, chest: dunechest.Chest, tmp_path: Path
) -> None:
    """A link out of the library is made only if this machine made the bag, and it is unaltered since."""
    (library / "out").symlink_to("/somewhere/else")
    for text in ("a", "b", "c"):
        (library / "rope.txt").write_text(text)
        archive(library, chest)
    thinning.carry_out(dunechest.plan_thinning(chest, "shed", "the last 1"))
    result = dunechest.restore(chest, "shed", into=tmp_path / "back")
    assert os.readlink(tmp_path / "back" / "out") == "/somewhere/else"
    assert result.well


# Large files that change a little.


@pytest.fixture
def catalogue(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.setattr(pieces, "SMALLEST", 200_000)
    library = tmp_path / "lib"
    library.mkdir()
    (library / "catalogue.bin").write_bytes(random.Random(5).randbytes(1_500_000))
    return library


def change(library: Path, number: int) -> None:
    content = bytearray((library / "catalogue.bin").read_bytes())
    rng = random.Random(number)
    for _ in range(3):
        place = rng.randrange(len(content) - 100)
        content[place : place + 50] = rng.randbytes(rng.randint(0, 90))
    (library / "catalogue.bin").write_bytes(bytes(content))


def test_earlier_states_of_large_files_are_kept_in_pieces(
    catalogue: Path, chest: dunechest.Chest, command: Command, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    truth = {}
    for number in range(1, 9):
        if number == 4:
            (catalogue / "catalogue.bin").rename(catalogue / "between")
            archive(catalogue, chest)
            (catalogue / "between").rename(catalogue / "catalogue.bin")
        elif number > 1:
            change(catalogue, number)
        account = archive(catalogue, chest)
        truth[account.edition] = facts(catalogue)
    bag = bag_of(chest, "lib")
    size = sum(p.stat().st_size for p in (bag / "dune" / "earlier").rglob("*") if p.is_file())
    assert size < 2 * 1_500_000, "five earlier states cost less than two whole ones"
    assert sha512sum(bag).returncode == 0
    assert dunechest.verify(chest).well
    for number, content in truth.items():
        assert back(chest, "lib", number, tmp_path / "back") == content, number
    assert command("compare", f"{chest.folder}/lib@1", f"{chest.folder}/lib@1").status == 0
    assert command("compare", f"{chest.folder}/lib@1", f"{chest.folder}/lib").status == 1
    keep = {1, 5, max(truth)}
    monkeypatch.setattr(thinning, "kept_by", lambda *rest: keep)
    plan = thinning.carry_out(dunechest.plan_thinning(chest, "lib", "the last 1"))
    assert set(plan.kept) == keep
    assert dunechest.verify(chest).well
    for number in keep:
        assert back(chest, "lib", number, tmp_path / "back") == truth[number], number
    (catalogue / "catalogue.bin").unlink()
    archive(catalogue, chest)
    assert back(chest, "lib", 1, tmp_path / "back") == truth[1], "its base is an earlier file now"


def test_a_person_can_put_an_earlier_state_together_by_the_page(
    catalogue: Path, chest: dunechest.Chest, tmp_path: Path
) -> None:
    """The program that the page on the format shows, run as a stranger would."""
    first = (catalogue / "catalogue.bin").read_bytes()
    archive(catalogue, chest)
    for number in (2, 3):
        change(catalogue, number)
        archive(catalogue, chest)
    page = (Path(__file__).resolve().parents[1] / "docs" / "on-drive-format.md").read_text()
    program = page.split("```python\n")[1].split("```")[0]
    archive_name = "dune/earlier/0001/library/catalogue.bin.pieces.zip"
    (tmp_path / "put_together.py").write_text(program)
    words = ["python3", tmp_path / "put_together.py", archive_name, "data/library/catalogue.bin", tmp_path / "out"]
    import sys

    words[0] = sys.executable
    subprocess.run(words, cwd=bag_of(chest, "lib"), check=True)
    assert (tmp_path / "out").read_bytes() == first


def test_damaged_pieces_are_told_and_nothing_wrong_comes_back(
    catalogue: Path, chest: dunechest.Chest, tmp_path: Path
) -> None:
    archive(catalogue, chest)
    change(catalogue, 2)
    archive(catalogue, chest)
    (path,) = (bag_of(chest, "lib") / "dune" / "earlier").rglob("*.zip")
    whole = path.read_bytes()
    for place in (60, len(whole) // 2, len(whole) - 30):
        path.write_bytes(whole[:place] + bytes([whole[place] ^ 1]) + whole[place + 1 :])
        assert not dunechest.verify(chest).well
        result = dunechest.restore(chest, "lib", into=tmp_path / "back", edition=1)
        content = (tmp_path / "back" / "catalogue.bin").exists()
        assert result.well == content
        shutil.rmtree(tmp_path / "back")
    path.write_bytes(whole)
    assert dunechest.restore(chest, "lib", into=tmp_path / "back", edition=1).well


def test_a_hostile_archive_of_pieces_is_bounded(tmp_path: Path) -> None:
    place = tmp_path / "dune" / "earlier" / "0001" / "x.pieces.zip"
    place.parent.mkdir(parents=True)
    name = "dune/earlier/0001/x.pieces.zip"
    about = {"format": 1, "size": 10, "blake3": "a" * 64, "sha512": "a" * 128, "base": "a" * 64}
    with zipfile.ZipFile(place, "w", zipfile.ZIP_DEFLATED) as archive_:
        archive_.writestr("about.json", json.dumps(about))
        archive_.writestr("list.txt", ("b" * 64 + "\n") * 3)
        archive_.writestr("b" * 64, bytes(80_000_000))
        archive_.writestr("../../escape", "x")
    found = pieces.kept_in(tmp_path, [name])
    with pytest.raises(dunechest.DuneChestError, match="too large"):
        list(pieces.assemble(tmp_path, found["a" * 64], found.values(), {}))
    for content in (b"", b"PK", b"no archive at all"):
        place.write_bytes(content)
        assert pieces.kept_in(tmp_path, [name]) == {}


@given(st.binary(max_size=300_000), st.binary(max_size=5000), st.integers(0, 300_000))
def test_cuts_follow_the_content(data: bytes, inserted: bytes, place: int) -> None:
    import io

    data = (data * 40)[:300_000]
    parts = list(pieces.cut(io.BytesIO(data)))
    assert b"".join(parts) == data
    assert all(len(part) <= 65536 for part in parts)
    assert all(len(part) >= 4096 for part in parts[:-1])
    more = data[:place] + inserted + data[place:]
    assert b"".join(pieces.cut(io.BytesIO(more))) == more
