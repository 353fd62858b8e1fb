"""Lists of what was set aside: what is read is what was written, or nothing at all."""

from __future__ import annotations

from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

import dunechest
from dunechest.ledger import events
from dunechest.ledger.asides import AsideFile, forget_aside, read_aside, write_aside
from dunechest.ledger.ledger import open_ledger
from dunechest.ledger.memory import home_before, home_without, tied_to
from dunechest.names import from_wire, to_wire

FILES = st.builds(
    AsideFile,
    st.text(min_size=1, max_size=12).map(to_wire),
    st.integers(-2, 1 << 60),
    st.integers(-(1 << 60), 1 << 60),
    st.sampled_from(["", "ab" * 32]),
    st.integers(-1, 0o7777),
)


@given(st.lists(FILES, max_size=6), st.integers(0, 10_000), st.integers(0, 7))
def test_a_list_is_read_as_written_and_with_one_bit_changed_not_at_all(
    files: list[AsideFile], place: int, bit: int
) -> None:
    write_aside("one", files)
    wanted = {from_wire(file.path): file for file in files}
    assert read_aside("one") == wanted
    (path,) = Path(dunechest.ledger.folder.state_folder() / "asides").iterdir()  # type: ignore[attr-defined]
    content = bytearray(path.read_bytes())
    content[place % len(content)] ^= 1 << bit
    path.write_bytes(content)
    changed = read_aside("one")
    assert changed is None or changed == wanted, "white space at the end alone may differ"
    forget_aside("one")
    assert read_aside("one") is None


@pytest.mark.parametrize("name", ["../../escaped", "/etc/passwd", "one"])
def test_a_name_leads_nowhere_else(name: str, tmp_path: Path) -> None:
    write_aside(name, [AsideFile("a", 1, 2)])
    assert [path.parent.name for path in tmp_path.rglob("*.jsonl")] == ["asides"]
    assert read_aside(name) == {"a": AsideFile("a", 1, 2)}


def _move(place: str, move: str, *, back: bool = False) -> None:
    old = "/home/tern/ropes"
    events.append(
        "rehome", old=old, id=move, name="ropes", kind="folder", place=place, below="ropes", drive="sand", way="link",
        identity="", back=back, move=move, before=home_before(old),
    )  # fmt: skip


def test_each_move_is_remembered_with_the_one_before() -> None:
    old = "/home/tern/ropes"
    assert home_before(old) == "" and home_without(old, "one") is None
    _move("/media/sand/ropes", "one")
    _move("/media/shell/ropes", "two")
    with open_ledger() as ledger:
        assert [(home.place, home.id) for home in ledger.homes()] == [("/media/shell/ropes", "two")]
    assert home_without(old, "one") is None, "only the last one can be undone"
    before = home_without(old, "two")
    assert before is not None and (before["place"], before["back"]) == ("/media/sand/ropes", False)
    events.append("rehome", **before)
    with open_ledger() as ledger:
        assert [home.place for home in ledger.homes()] == ["/media/sand/ropes"]
    first = home_without(old, "one")
    assert first is not None and first["back"] is True
    events.append("rehome", **first)
    with open_ledger() as ledger:
        assert ledger.homes() == ()


def test_places_of_one_library_are_tied_and_a_new_one_in_the_old_place_is_not() -> None:
    _move("/media/sand/ropes", "one")
    assert tied_to("/media/sand/ropes") == {"/home/tern/ropes"}
    assert tied_to("/home/tern/ropes") == frozenset(), "what lies there by now is another library"
    _move("/media/sand/ropes", "two", back=True)
    assert tied_to("/home/tern/ropes") == {"/media/sand/ropes"}
    assert tied_to("/media/sand/ropes") == frozenset()
