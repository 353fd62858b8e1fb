"""Where a file is, with no drive connected; and single files come back, of any edition, without touching the rest."""

from __future__ import annotations

import fnmatch
import os
import random
import re
import shutil
import sqlite3
import subprocess
from collections.abc import Callable
from contextlib import closing
from pathlib import Path

import msgspec
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import dunechest
from dunechest import SearchOptions, search
from dunechest.jobs.study.path_patterns import expression
from dunechest.ledger import catalogue, name_texts
from dunechest.ledger.catalogue import open_catalogue
from dunechest.ledger.catalogue_rows import CURRENT, BagKey, PastEdition, PastRole, Query, Row
from dunechest.ledger.folder import state_folder
from tests.support.editions import archive
from tests.support.runs import Command
from tests.support.trees import bag_of, flip


def paths(*words: str, **options: object) -> list[str]:
    return sorted(file.path for file in search(words, SearchOptions(**options)).files)  # type: ignore[arg-type]


def test_a_file_is_found_by_all_that_is_known_of_it(
    library: Path, chest: dunechest.Chest, tmp_path: Path, command: Command
) -> None:
    (library / "rafters" / "Früh am Morgen.JPG").write_bytes(b"x" * 5000)
    os.utime(library / "rafters" / "Früh am Morgen.JPG", (1_684_000_000, 1_684_000_000))
    archive(library, chest)
    assert paths("oar") == ["rafters/oar.txt"]
    assert paths("OAR.TXT") == ["rafters/oar.txt"]
    assert paths("rafters", "bin") == ["rafters/big.bin"]
    assert paths("rafters/o") == ["rafters/oar.txt"]
    assert paths("*.txt") == ["rafters/oar.txt", "rope.txt"]
    assert paths("rafters/*.txt") == ["rafters/oar.txt"]
    assert paths("?ope.txt") == ["rope.txt"]
    assert paths("fru\u0308h*") == ["rafters/Früh am Morgen.JPG"], "accents and capitals do not count"
    assert paths(smallest=4000, largest=6000) == ["rafters/Früh am Morgen.JPG"]
    assert paths(since=1_683_000_000, before=1_685_000_000) == ["rafters/Früh am Morgen.JPG"]
    (tmp_path / "in hand").write_bytes(b"x" * 5000)
    assert paths(same_as=tmp_path / "in hand") == ["rafters/Früh am Morgen.JPG"]
    assert paths(library="shed", smallest=100_000) == ["rafters/big.bin"]
    assert paths("txt", kind="folder", chest="blue") == ["rafters/oar.txt", "rope.txt"]
    assert paths("nothing of the kind") == []
    for wrong in (
        ("search",),
        ("search", "--larger", "big"),
        ("search", "--since", "soon"),
        ("search", "x", "--on", "red"),
    ):
        assert command(*wrong).status == 2
    assert command("search", "zzz").status == 1


def test_earlier_editions_and_drives_in_a_drawer(
    library: Path, chest: dunechest.Chest, tmp_path: Path, command: Command, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setenv("DUNECHEST_DRIVES", str(chest.folder.parent))
    (tmp_path / "sand").mkdir()
    sand = dunechest.create_chest(tmp_path / "sand", "sand")
    archive(library, chest)
    dunechest.copy_chest(chest, sand)
    (library / "rope.txt").unlink()
    archive(library, chest)
    command("chest", "place", sand.folder, "the barn")
    (tmp_path / "sand").rename(tmp_path / "away")
    (file,) = search("rope.txt").files
    assert [(c.label, c.connected, c.current, c.last_edition) for c in file.copies] == [
        ("blue", True, False, 1),
        ("sand", False, True, 1),
    ]
    out = command("search", "rope.txt").out
    assert "edition 1, deleted or changed since: blue (connected)" in out
    assert "edition 1: sand (kept at the barn)" in out
    assert "-> dunechest restore blue shed --file rope.txt --edition 1" in out
    words = next(line for line in out.split("\n") if "->" in line).split("dunechest ")[1].split()
    assert command(*words, "--yes").status == 0, "the command that is shown works"
    assert (library / "rope.txt").read_text() == "twenty metres\n"
    command("chest", "retire", "sand")
    (file,) = search("rope.txt").files
    assert [copy.label for copy in file.copies] == ["blue"], "a chest that is retired is not named"


def test_what_a_lost_or_harmed_catalogue_says(library: Path, chest: dunechest.Chest, command: Command) -> None:
    archive(library, chest)
    place = state_folder() / catalogue.NAME
    place.write_bytes(b"SQLite format 3\0" + os.urandom(5000))
    assert command("search", "rope").status == 1
    assert command("chest", "show", chest.folder).status == 0
    assert paths("rope") == ["rope.txt"], "it is filled again"
    with closing(sqlite3.connect(place)) as connection, connection:
        connection.execute("UPDATE chunks SET names = x'00ff'")
    ran = command("search", "rope")
    assert (ran.status, "was damaged, and was set aside" in ran.err) == (1, True)
    with closing(sqlite3.connect(place)) as connection, connection:
        connection.execute("CREATE TABLE another (x)")
    command("verify", chest.folder)
    assert paths("rope") == ["rope.txt"]
    shutil.rmtree(bag_of(chest, "shed"))
    command("verify", chest.folder)
    assert paths("rope") == [], "a library that is gone from the chest is found there no more"


@settings(suppress_health_check=[HealthCheck.function_scoped_fixture], max_examples=60)
@given(st.data())
def test_a_bit_that_flips_in_the_catalogue_is_said(
    library: Path, chest: dunechest.Chest, command: Command, data: st.DataObject
) -> None:
    place = state_folder() / "catalogue.sqlite"
    if not place.exists():
        command("archive", library, "--to", chest.folder)
    truth = paths("*")
    assert truth
    whole, digest = place.read_bytes(), (state_folder() / "catalogue.blake3").read_bytes()
    where, bit = data.draw(st.integers(0, len(whole) - 1)), data.draw(st.integers(0, 7))
    place.write_bytes(whole[:where] + bytes([whole[where] ^ 1 << bit]) + whole[where + 1 :])
    try:
        assert paths("*") == truth, "or it says that it is damaged"
    except dunechest.DuneChestError as error:
        assert "was damaged, and was set aside" in str(error)
        assert list(state_folder().glob("catalogue.sqlite.harmed-*"))
    finally:
        place.write_bytes(whole)
        (state_folder() / "catalogue.blake3").write_bytes(digest)


def test_odd_names_are_found_and_harmless(tmp_path: Path, chest: dunechest.Chest, command: Command) -> None:
    library = tmp_path / "lib"
    library.mkdir()
    (library / os.fsdecode(b"caf\xe9 \x1b[31m\nred")).write_text("x")
    (library / "100%_sure [x].txt").write_text("y")
    archive(library, chest)
    ran = command("search", "caf")
    assert (ran.status, "\x1b" in ran.out) == (0, False)
    assert paths("100%_sure") == ["100%_sure [x].txt"]
    (suggested,) = (line.partition("-> dunechest ")[2] for line in ran.out.splitlines() if "-> " in line)
    words = subprocess.run(["bash", "-c", f"printf '%s\\0' {suggested}"], capture_output=True, check=True).stdout
    assert command(*map(os.fsdecode, words.split(b"\0")[:-1]), "--into", tmp_path / "odd").status == 0
    assert os.listdir(os.fsencode(tmp_path / "odd")) == [b"caf\xe9 \x1b[31m\nred"]
    assert (
        command("restore", chest.folder, "lib", "--file", "100%_sure [x].txt", "--into", tmp_path / "b").status == 0
    )
    assert (tmp_path / "b" / "100%_sure [x].txt").read_text() == "y"


@given(
    names=st.lists(st.text("ab/.1", min_size=1, max_size=8), min_size=1, max_size=30),
    fragment=st.text("ab.1", min_size=1, max_size=3),
)
def test_the_chunks_are_searched_as_a_plain_list_would_be(names: list[str], fragment: str) -> None:
    own = sorted({name.strip("/") for name in names if name.strip("/") and "//" not in name})
    keys = [(*_split(path), n, 0, 0) for n, path in enumerate(own)]
    keys.sort()
    text = name_texts.text_of(keys).encode() if keys else b""
    found = (
        {name_texts.path_at(text, place) for place, _ in name_texts.hits_in(text, [fragment.encode()])}
        if keys
        else set()
    )
    assert found == {path for path in own if any(fragment in part for part in _split(path))}


def _split(path: str) -> tuple[str, str]:
    folder, _, name = path.rpartition("/")
    return folder, name


@given(st.text("ab*?/[]!x.", max_size=9), st.text("abx/.", max_size=8))
def test_a_pattern_without_folders_means_what_it_means_elsewhere(pattern: str, name: str) -> None:
    if "/" in pattern or "/" in name or "**" in pattern or "[" in pattern:
        return
    assert bool(expression(pattern).fullmatch(name)) == fnmatch.fnmatchcase(name, pattern)


@given(st.lists(st.sampled_from(["a", "b", "/", "*", "**", "?"]), max_size=8), st.text("ab/", max_size=9))
def test_many_stars_mean_the_same_and_take_no_time(pieces: list[str], path: str) -> None:
    plain = [
        {"*": "[^/]*", "**": ".*", "?": "[^/]"}.get(piece, piece) for piece in re.findall(r"\*\*|.", "".join(pieces))
    ]
    try:
        fits = expression("".join(pieces)).fullmatch(path)
    except dunechest.UsageError as error:
        assert "too many" in str(error)
    else:
        assert bool(fits) == bool(re.fullmatch("".join(plain), path))
    assert expression("*a" * 30 + "b").fullmatch("a" * 200) is None


def test_it_agrees_with_a_plain_model(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """Bags come, change and go; each time the catalogue has just the files that they have, in the right editions."""
    monkeypatch.setattr(catalogue, "_CHUNK", 7)
    dice = random.Random(5)
    model: dict[tuple[str, str], tuple[BagKey, list[Row]]] = {}
    advanced = 0
    for turn in range(80):
        chest, name = f"c{dice.randrange(3)}", f"library {dice.randrange(2)}"
        before = model.get((chest, name))
        with open_catalogue(write=True) as opened:
            if before is not None and dice.random() < 0.2:
                del model[chest, name]
                opened.forget(chest, [name])
            elif before is not None and dice.random() < 0.6:
                key, rows = before
                now = msgspec.structs.replace(key, top=f"t{turn}", edition=key.edition + 1)
                current = [row for row in rows if row.last == CURRENT]
                gone = dice.sample(current, dice.randint(0, len(current) // 2))
                free = [
                    n for n in range(40) if n not in {row.digest for row in current} - {row.digest for row in gone}
                ]
                come = [_row(dice, n, now.edition, CURRENT) for n in dice.sample(free, dice.randrange(8))]
                past = PastEdition(now.edition, 1.0, 1, 1, False, 1, 1, 1, 1, 1, False)
                args = ([row[:5] for row in gone], [row[:5] for row in come], past, [PastRole("essential", 1, 1)])
                assert not opened.advance(now, "another", *args), "not what the catalogue knows"
                assert not opened.advance(now, key.top, [("f", "no such file", 1, 1, 1)], *args[1:])
                assert opened.advance(now, key.top, *args)
                ended = [row._replace(last=key.edition) if row in gone else row for row in rows]
                model[chest, name] = now, [*ended, *come]
                advanced += 1
            else:
                key = BagKey(chest, name, name, name, "folder", f"t{turn}", 2)
                some = dice.sample(range(40), dice.randrange(30))
                rows = [_row(dice, n, dice.randint(1, 2), dice.choice([CURRENT, 1])) for n in some]
                rows = [row if row.last != 1 else row._replace(first=1) for row in rows]
                model[chest, name] = key, rows
                opened.put(key, rows)
        with open_catalogue() as opened:
            found = sorted(
                (match.library, match.path, match.size, held.chest, held.first, held.last)
                for match in opened.find(Query(fragments=("n",)), 10_000)
                for held in match.held
            )
            sized = {m.path for m in opened.find(Query(smallest=2), 10_000)}
            assert all(opened.top_of(*place) == key.top for place, (key, _) in model.items())
        wanted = sorted(
            (name, f"{row.folder}/{row.name}", row.size, chest, row.first, row.last)
            for (chest, name), (_, rows) in model.items()
            for row in rows
        )
        assert found == wanted
        assert sized == {path for _, path, size, *_ in wanted if size >= 2}
    assert advanced > 10


def _row(dice: random.Random, number: int, first: int, last: int) -> Row:
    return Row(f"f{number % 3}", f"n{number}", dice.randrange(3), 0, number, first, last)


def test_an_edition_is_taken_in_by_its_changes_just_as_if_it_were_read_anew(
    tmp_path: Path, chest: dunechest.Chest, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Editions with changes, moves, comebacks and names the drive cannot hold; a fresh catalogue says the same."""
    library = tmp_path / "many"
    (library / "in").mkdir(parents=True)
    for number in range(60):
        (library / "in" / f"{number}.txt").write_text(str(number % 50))
    whole: list[str] = []
    put = catalogue.Catalogue.put
    monkeypatch.setattr(
        catalogue.Catalogue, "put", lambda self, bag, *a, **k: (whole.append(bag.bag), put(self, bag, *a, **k))
    )
    steps: list[Callable[[], object]] = [
        lambda: (library / "in" / "3.txt").write_text("another"),
        (library / "in" / "4.txt").unlink,
        lambda: (library / "in" / "5.txt").rename(library / "5 moved.txt"),
        lambda: (library / "in" / "4.txt").write_text("4"),
        lambda: os.utime(library / "in" / "6.txt", ns=(1, 1)),
        lambda: (library / os.fsdecode(b"\xff odd")).write_text("new"),
        lambda: (library / "5 moved.txt").rename(library / "in" / "5.txt"),
        lambda: [(library / "in" / f"{number}.txt").write_text("all") for number in range(10, 30)],
    ]
    archive(library, chest)
    for step in steps:
        step()
        archive(library, chest)
    assert len(whole) == 3, "the first edition, one with other names than before, and one in which much changed"
    by_changes = _all_known()
    (state_folder() / catalogue.NAME).unlink()
    dunechest.list_chests()
    assert dunechest.archive(library, chest)[0].state == "unchanged"
    assert _all_known() == by_changes
    assert len(by_changes[0]) > 60


def _all_known() -> tuple[list[tuple[object, ...]], object]:
    with open_catalogue() as opened:
        files = [
            (match.library, match.path, match.size, match.mtime, *msgspec.structs.astuple(held))
            for match in opened.find(Query(fits=lambda path: True), 10_000)
            for held in match.held
        ]
        return sorted(files), opened.histories()


def test_single_files_come_back_and_nothing_else_changes(
    library: Path, chest: dunechest.Chest, tmp_path: Path, command: Command
) -> None:
    archive(library, chest)
    (library / "rope.txt").write_text("thirty metres\n")
    archive(library, chest)
    (library / "rope.txt").write_text("mine, and not archived\n")
    (library / "rafters" / "oar.txt").unlink()
    ran = command(
        "restore", chest.folder, "shed", "--file", "rope.txt", "--edition", "1", "--file", "rafters", "--yes"
    )
    assert ran.status == 0
    assert ran.out.startswith("Restored 2 files of shed (edition 1), each one checked")
    assert (library / "rope.txt").read_text() == "mine, and not archived\n"
    (other,) = [p for p in library.iterdir() if p.name.startswith("rope") and p.name != "rope.txt"]
    assert other.read_text() == "twenty metres\n"
    assert (library / "rafters" / "oar.txt").read_text() == "two of them\n"
    assert command("undo", "--yes").status == 0
    assert sorted(p.name for p in library.iterdir()) == ["empty", "rafters", "rope.txt"]
    assert not (library / "rafters" / "oar.txt").exists()
    ran = command("restore", chest.folder, "shed", "--file", "*.bin", "--into", tmp_path / "back", "--yes")
    assert (ran.status, sorted(p.name for p in (tmp_path / "back").rglob("*"))) == (0, ["big.bin", "rafters"])
    for words in (
        ("shed", "--file", "nothing.txt"),
        ("--file", "rope.txt"),
        ("shed", "--file", "rope.txt", "--part", "x"),
        ("shed", "--file", "rope.txt", "--if-exists", "set-aside"),
    ):
        assert command("restore", chest.folder, *words).status == 2, words
    assert "dunechest search nothing.txt" in command("restore", chest.folder, "shed", "--file", "nothing.txt").err


def test_a_single_file_that_the_chest_has_lost_is_said(
    library: Path, chest: dunechest.Chest, tmp_path: Path, command: Command
) -> None:
    archive(library, chest)
    flip(bag_of(chest, "shed") / "data" / "library" / "rope.txt")
    ran = command("restore", chest.folder, "shed", "--file", "rope.txt", "--into", tmp_path / "a", "--yes")
    assert (ran.status, ran.out.startswith("INCOMPLETE: 0 of 1 file")) == (1, True)
    ran = command("restore", chest.folder, "shed", "--file", "oar.txt", "--into", tmp_path / "b", "--yes")
    assert ran.status == 0, "another file is none of its business"
    (bag_of(chest, "shed") / "data" / "library" / "rope.txt").unlink()
    ran = command("restore", chest.folder, "shed", "--file", "rope.txt", "--into", tmp_path / "c", "--yes")
    assert (ran.status, "INCOMPLETE" in ran.out) == (1, True)
