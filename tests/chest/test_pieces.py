"""Earlier states of large files that change a little: kept in pieces, and put together again."""

from __future__ import annotations

import json
import random
import shutil
import subprocess
import zipfile
from pathlib import Path

import pytest
from blake3 import blake3
from hypothesis import given
from hypothesis import strategies as st

import dunechest
from dunechest.chest import pieces
from dunechest.jobs.editions import planning
from dunechest.jobs.editions.doing import carry_out
from tests.support.editions import archive, back
from tests.support.runs import Command
from tests.support.trees import bag_of, facts, sha512sum


@pytest.fixture
def catalogue(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Path:
    monkeypatch.setattr(pieces, "SMALLEST", 200_000)
    library = tmp_path / "lib"
    library.mkdir()
    (library / "catalogue.bin").write_bytes(random.Random(5).randbytes(800_000))
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
    assert size < 2 * 800_000, "five earlier states cost less than two whole ones"
    assert sha512sum(bag).returncode == 0
    assert dunechest.verify(chest).ok
    for number, content in truth.items():
        assert back(chest, "lib", number, tmp_path / "back") == content, number
    assert (
        command("compare", f"{chest.folder}/lib", f"{chest.folder}/lib", "--edition", "1", "--edition", "1").status
        == 0
    )
    assert (
        command("compare", f"{chest.folder}/lib", f"{chest.folder}/lib", "--edition", "1", "--edition", "2").status
        == 1
    )
    keep = {1, 5, max(truth)}
    monkeypatch.setattr(planning, "kept_by", lambda *rest: keep)
    plan = carry_out(dunechest.plan_drop(chest, "lib", "the last 1"))
    assert set(plan.kept) == keep
    assert dunechest.verify(chest).ok
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
    page = (Path(__file__).resolve().parents[2] / "docs" / "on-drive-format.md").read_text()
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
        assert not dunechest.verify(chest).ok
        result = dunechest.restore(chest, "lib", dunechest.RestoreOptions(into=str(tmp_path / "back"), edition=1))
        content = (tmp_path / "back" / "catalogue.bin").exists()
        assert result.ok == content
        shutil.rmtree(tmp_path / "back")
    path.write_bytes(whole)
    assert dunechest.restore(chest, "lib", dunechest.RestoreOptions(into=str(tmp_path / "back"), edition=1)).ok


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
    found = pieces.kept_in(tmp_path.joinpath, [name])
    with pytest.raises(dunechest.DuneChestError, match="too large"):
        list(pieces.assemble(tmp_path.joinpath, found["a" * 64], found.values(), {}))
    for content in (b"", b"PK", b"no archive at all"):
        place.write_bytes(content)
        assert pieces.kept_in(tmp_path.joinpath, [name]) == {}


def test_whatever_byte_of_an_archive_of_pieces_is_damaged_it_is_told_or_the_content_is_right(tmp_path: Path) -> None:
    folder = tmp_path / "dune" / "earlier" / "0001"
    folder.mkdir(parents=True)
    old, new = tmp_path / "old", tmp_path / "new"
    same = bytes(random.Random(7).choices(b"oub", k=60_000))
    old.write_bytes(same + b"as it was, line by line\n" * 200)
    new.write_bytes(same + b"and as it is now\n" * 200)
    digest = blake3(old.read_bytes()).hexdigest()
    about = pieces.About(1, old.stat().st_size, digest, "a" * 128, "b" * 64)
    name = "dune/earlier/0001/x.pieces.zip"
    assert pieces.keep(old, about, new, tmp_path / name, lambda piece: False)
    whole = (tmp_path / name).read_bytes()
    told = 0
    for place in range(random.randrange(9), len(whole), 9):
        for bits in (1, 0x90):
            (tmp_path / name).write_bytes(whole[:place] + bytes([whole[place] ^ bits]) + whole[place + 1 :])
            found = pieces.kept_in(tmp_path.joinpath, [name])
            if digest not in found:
                told += 1
                continue
            try:
                content = b"".join(
                    pieces.assemble(tmp_path.joinpath, found[digest], found.values(), {found[digest].about.base: new})
                )
            except dunechest.DuneChestError:
                told += 1
            else:
                assert content == old.read_bytes() or found[digest].about.base != "b" * 64
    assert told > len(whole) // 18


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
