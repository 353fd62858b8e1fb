"""This computer's own record, harmed: damage that was found stays known, or status says that entries are unreadable."""

from __future__ import annotations

import os
import shutil
import sqlite3
from contextlib import closing
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

import dunechest
from dunechest.ledger.folder import state_folder
from dunechest.ledger.gather import gather
from tests.support.runs import Command
from tests.support.trees import bag_of, flip


@pytest.fixture
def damaged(library: Path, drive: Path, chest: dunechest.Chest, command: Command) -> Path:
    """The state folder of a computer that found damage on its drive, which is not connected now."""
    command("archive", library, "--to", drive)
    flip(bag_of(chest, "shed") / "data" / "library" / "rope.txt")
    assert command("verify", drive).status == 1
    drive.rename(drive.with_name("drive away"))
    assert states() == ["damaged"]
    return state_folder()


def states() -> list[str]:
    return [copy.state for item in dunechest.status(everyone=True).libraries for copy in item.copies]


def is_said() -> bool:
    return any("own record is damaged" in step.message for step in dunechest.status().steps)


def notes(state: Path) -> list[Path]:
    return sorted((state / "notes").glob("*.jsonl"))


def test_one_note_that_is_lost_hides_no_damage(damaged: Path, tmp_path: Path) -> None:
    shutil.copytree(damaged, tmp_path / "kept")
    for name in [path.name for path in notes(damaged)]:
        shutil.rmtree(damaged)
        shutil.copytree(tmp_path / "kept", damaged)
        (damaged / "notes" / name).unlink()
        assert "safe" not in states(), name


@settings(suppress_health_check=[HealthCheck.function_scoped_fixture], max_examples=80)
@given(st.data())
def test_one_bit_in_a_note_hides_no_damage(damaged: Path, tmp_path: Path, data: st.DataObject) -> None:
    path = data.draw(st.sampled_from(notes(damaged)))
    before = path.read_bytes()
    place = data.draw(st.integers(0, len(before) - 1))
    bit = data.draw(st.integers(0, 7))
    path.write_bytes(before[:place] + bytes([before[place] ^ 1 << bit]) + before[place + 1 :])
    try:
        assert "safe" not in states(), before[max(0, place - 30) : place + 30]
    finally:
        path.write_bytes(before)


@settings(suppress_health_check=[HealthCheck.function_scoped_fixture], max_examples=60)
@given(st.data())
def test_one_bit_in_the_database_hides_no_damage(damaged: Path, tmp_path: Path, data: st.DataObject) -> None:
    gather(damaged)
    path = damaged / "ledger.sqlite"
    with closing(sqlite3.connect(path)) as connection:
        rows = connection.execute("SELECT rowid, what, key, fields, number, id, moment, facts FROM latest").fetchall()
        names = ("what", "key", "fields", "id", "facts")
        row = data.draw(st.sampled_from(rows))
        column = data.draw(st.sampled_from(names))
        text = str(row[1 + ("what", "key", "fields", "number", "id", "moment", "facts").index(column)]).encode()
        place = data.draw(st.integers(0, max(0, len(text) - 1)))
        changed = (
            (text[:place] + bytes([text[place] ^ 1 << data.draw(st.integers(0, 6))]) + text[place + 1 :])
            if text
            else b"x"
        )
        was = row[1 + ("what", "key", "fields", "number", "id", "moment", "facts").index(column)]
        try:
            connection.execute(f"UPDATE latest SET {column} = ? WHERE rowid = ?", (changed.decode("latin-1"), row[0]))
        except sqlite3.IntegrityError:
            return
        connection.commit()
        try:
            assert "safe" not in states(), (column, text, changed)
        finally:
            connection.execute(f"UPDATE latest SET {column} = ? WHERE rowid = ?", (was, row[0]))
            connection.commit()


def test_what_was_lost_is_taken_from_the_drive(damaged: Path, drive: Path, command: Command) -> None:
    for path in notes(damaged):
        text = path.read_bytes()
        path.write_bytes(text.replace(b'"wrong":1', b'"wrong":0').replace(b'"quick":false', b'"quick":true '))
    assert is_said() and states() == ["damaged"]
    drive.with_name("drive away").rename(drive)
    assert states() == ["damaged"]
    os.rename(damaged, damaged.with_name("lost state"))
    assert command("chest", "show", drive).status == 0
    assert states() == ["damaged"], "the drive's log tells it to a computer that knows nothing"


def test_a_ledger_that_is_no_database_is_set_aside_and_said(damaged: Path, drive: Path, command: Command) -> None:
    gather(damaged)
    (damaged / "ledger.sqlite").write_bytes(b"no database at all" * 999)
    ran = command("status")
    assert ran.status == 1 and "own record is damaged" in ran.out
    assert list(damaged.glob("ledger.sqlite.harmed-*"))
    drive.with_name("drive away").rename(drive)
    assert command("chest", "show", drive).status == 0 and states() == ["damaged"]
