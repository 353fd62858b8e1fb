"""Tables of many files in little memory behave as plain dictionaries do."""

from __future__ import annotations

import hypothesis.strategies as st
import pytest
from hypothesis import given, settings

from dunechest.bag.digests import Digests
from dunechest.chest.editions import differences, step_back
from dunechest.chest.file_table import FileTable, Marks, Proven
from dunechest.chest.records import FileRecord

PATHS = st.sampled_from(["library/a", "library/a/b", "library/z~", "outside/1/x", "other", "library/é\n"])
HEX = st.integers(0, 2**256 - 1).map(lambda n: f"{n:064x}")
# What a damaged list may say has no row: numbers too large, digests that are none.
ODD = st.sampled_from(["", "zz", "A" * 64, "ab"])
SIZES = st.one_of(st.integers(0, 2**40), st.sampled_from([-1, 2**64, 2**70]))


@st.composite
def proven(draw: st.DrawFn, path: str) -> Proven:
    record = FileRecord(
        path,
        draw(SIZES),
        draw(st.one_of(st.integers(-(2**40), 2**62), st.just(2**80))),
        draw(st.sampled_from([0o644, 0o7777, -5, 2**40])),
        draw(st.one_of(HEX, ODD)),
        draw(st.sampled_from(["essential", "rebuildable", "local-only"])),
        draw(st.integers(1, 2**33)),
    )
    return Proven(record, draw(st.binary(min_size=63, max_size=64)))


@settings(max_examples=150, deadline=None)
@given(st.data())
def test_a_shelf_holds_what_a_dictionary_would(data: st.DataObject) -> None:
    base, plain = FileTable(), {}
    for path in data.draw(st.lists(PATHS, max_size=6)):
        base[path] = plain[path] = data.draw(proven(path))
    assert dict(base) == plain
    shelf, now, there = FileTable(base), {}, set()
    for act in data.draw(st.lists(st.sampled_from(["keep", "put", "there", "drop"]), max_size=12)):
        path = data.draw(PATHS)
        if act == "keep" and path in base and path not in now:
            shelf.keep(path)
            now[path] = plain[path]
            there.add(path)
        elif act == "put":
            shelf[path] = now[path] = data.draw(proven(path))
            there.discard(path)
        elif act == "there":
            now[path] = data.draw(proven(path))
            shelf.put_there(path, now[path])
            there.add(path)
        elif act == "drop" and path in now:
            del shelf[path], now[path]
            there.discard(path)
    assert dict(shelf) == now
    assert len(shelf) == len(now)
    assert list(shelf.paths()) == sorted(now)
    assert [item.record.path for item in shelf.by_path()] == sorted(now)
    assert shelf.bytes == sum(item.record.size for item in now.values())
    assert {path for path in now if shelf.there(path)} == there
    assert shelf.count_there == len(there)
    assert all((path in shelf) == (path in now) for path in ("library/a", "outside/1/x", "nothing", "other"))
    marks = Marks(base)
    for path in (*now, "nothing"):
        marks.add(path)
    assert set(marks.others()) == plain.keys() - now.keys()
    with pytest.raises(KeyError):
        shelf["nothing"]


@settings(max_examples=100, deadline=None)
@given(st.data())
def test_the_lines_between_two_editions_lead_back(data: st.DataObject) -> None:
    def some() -> dict[str, FileRecord]:
        paths = data.draw(st.lists(PATHS, unique=True))
        return {path: FileRecord(path, data.draw(st.integers(0, 2)), 1, 0o644, "ab") for path in paths}

    earlier, later = some(), some()
    lines = list(differences(*([files[path] for path in sorted(files)] for files in (earlier, later))))
    assert [line.path for line in lines] == sorted(
        path for path in {*earlier, *later} if earlier.get(path) != later.get(path)
    )
    found = dict(later)
    step_back(found, lines)
    assert found == earlier


def test_digests_are_those_that_were_put_in() -> None:
    digests = Digests(8)
    digests["data/x"] = "00ff00ff"
    digests["data/y"] = "12345678"
    digests["data/x"] = "aabbccdd"
    assert digests == {"data/x": "aabbccdd", "data/y": "12345678"}
    assert [digests.row(path) for path in ("data/x", "data/y", "data/z")] == [0, 1, None]
    with pytest.raises(ValueError, match="bytes instead of"):
        digests["data/z"] = "12"
    del digests["data/x"]
    assert list(digests) == ["data/y"]
