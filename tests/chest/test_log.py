"""The log of a chest as it lies on a drive: what is written comes back, and what was harmed is not believed."""

from __future__ import annotations

import json
from collections.abc import Sequence
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from dunechest.chest import log as logs
from dunechest.chest.log import Event, LogFile, Writer, add, read_file, read_log
from dunechest.jobs.known.logs import kept_lines
from dunechest.ledger.own_key import OwnKey


def writer(seed: int = 7, name: str = "kitchen") -> Writer:
    key = OwnKey(bytes([seed]) * 32)
    return Writer(key.public, key.sign, name, "m" * 32)


def event(number: int, *, intact: bool = True, bag: str = "shed", what: str = "check") -> Event:
    facts = {"chest": "c" * 32, "bag": bag, "quick": False, "intact": intact, "files": 3, "wrong": int(not intact)}
    return Event(0, number, f"{number}-aa-0000", what, 1_790_000_000.0 + number, facts)


def every(lines: Sequence[Event]) -> Sequence[Event]:
    return lines


def own_file(chest: Path, who: Writer | None = None) -> LogFile | None:
    return next((item for item in read_log(chest) if item.id == (who or writer()).id), None)


def test_what_is_written_comes_back_with_numbers(tmp_path: Path) -> None:
    for start in (1, 3):
        add(tmp_path, writer(), own_file(tmp_path), [event(start), event(start + 1, intact=False)], every)
    (log,) = read_log(tmp_path)
    assert [item.number for item in log.events] == [1, 2, 3, 4] and log.signed == 4 and not log.broken
    assert (log.head.name, log.number, log.id) == ("kitchen", 4, writer().id)
    add(tmp_path, writer(name="hall"), log, [event(5)], every)
    (log,) = read_log(tmp_path)
    assert (log.head.name, log.number, log.signed) == ("hall", 5, 5)


def test_a_torn_last_line_is_ignored_and_the_file_goes_on(tmp_path: Path) -> None:
    add(tmp_path, writer(), None, [event(1)], every)
    (path,) = (tmp_path / "log").iterdir()
    path.write_bytes(path.read_bytes() + b'{"type":"event","number":2,"st')
    (log,) = read_log(tmp_path)
    assert (log.number, log.signed, log.broken) == (1, 1, False)
    add(tmp_path, writer(), log, [event(2)], every)
    (log,) = read_log(tmp_path)
    assert (log.number, log.signed, log.broken) == (2, 2, False)


def test_nobody_can_write_for_another_computer(tmp_path: Path) -> None:
    add(tmp_path, writer(), None, [event(1, intact=False)], every)
    (path,) = (tmp_path / "log").iterdir()
    whole = path.read_bytes()
    # Another key under this name is no file of this computer.
    forger = writer(9)
    add(tmp_path / "forged", forger, None, [event(1)], every)
    (forged,) = (tmp_path / "forged" / "log").iterdir()
    assert read_file(writer().id, forged.read_bytes()) is None
    # A line that was changed, or added with the right link, is not signed.
    changed = read_file(writer().id, whole.replace(b'"intact":false', b'"intact":true'))
    assert changed is not None and changed.signed == 0
    log = read_file(writer().id, whole)
    assert log is not None
    line = json.dumps({"type": "event", "number": 2, "step": 2, "id": "x", "what": "check", "moment": 1.0,
                       "facts": event(2).facts, "before": log.last}).encode()  # fmt: skip
    path.write_bytes(whole + line + b"\n")
    (log,) = read_log(tmp_path)
    assert (log.number, log.signed) == (2, 1)
    # And its computer does not sign what it did not write.
    add(tmp_path, writer(), log, [event(3)], every)
    (log,) = read_log(tmp_path)
    assert [item.id for item in log.events] == ["1-aa-0000", "3-aa-0000"] and log.signed == 2


def test_what_follows_a_broken_link_is_not_believed(tmp_path: Path) -> None:
    for number in (1, 2, 3):
        add(tmp_path, writer(), own_file(tmp_path), [event(number)], every)
    (path,) = (tmp_path / "log").iterdir()
    lines = path.read_bytes().split(b"\n")
    path.write_bytes(b"\n".join([*lines[:3], *lines[5:]]))  # the second event and its signature are cut out
    (log,) = read_log(tmp_path)
    assert (log.number, log.signed, log.broken) == (1, 1, True)
    add(tmp_path, writer(), log, [event(4)], every, known=3)
    (log,) = read_log(tmp_path)
    assert ([item.number for item in log.events], log.number, log.broken, log.signed) == ([1, 4], 4, False, 2)


def test_a_later_format_is_left_alone(tmp_path: Path) -> None:
    add(tmp_path, writer(), None, [event(1)], every)
    (path,) = (tmp_path / "log").iterdir()
    later = path.read_bytes().replace(b'"format":1', b'"format":2')
    path.write_bytes(later)
    assert read_log(tmp_path) == ()
    with pytest.raises(OSError, match="later version"):
        add(tmp_path, writer(), None, [event(2)], every)
    assert path.read_bytes() == later


def test_a_log_behind_a_link_is_neither_read_nor_written(tmp_path: Path) -> None:
    (tmp_path / "elsewhere").mkdir()
    (tmp_path / "log").symlink_to(tmp_path / "elsewhere")
    with pytest.raises(OSError, match="link"):
        add(tmp_path, writer(), None, [event(1)], every)
    assert read_log(tmp_path) == () and not list((tmp_path / "elsewhere").iterdir())


def test_a_file_stays_small(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(logs, "LARGE", 6000)
    seen: set[int] = set()
    for night in range(1, 120):
        add(tmp_path, writer(), own_file(tmp_path), [event(night, intact=night != 20)], kept_lines)
        log = own_file(tmp_path)
        assert log is not None and log.number == night and log.signed == len(log.events) and log.size < 7000
        seen |= {item.number for item in log.events}
    assert seen == set(range(1, 120)), "each could be read before it was left out"
    assert any(not item.facts["intact"] for item in log.events), "bad news stays"


@given(st.data())
def test_no_byte_can_be_changed_unseen(tmp_path_factory: pytest.TempPathFactory, data: st.DataObject) -> None:
    chest = tmp_path_factory.mktemp("chest")
    add(chest, writer(), None, [event(1, intact=False), event(2)], every)
    add(chest, writer(), own_file(chest), [event(3)], every)
    (path,) = (chest / "log").iterdir()
    whole = path.read_bytes()
    before = read_file(writer().id, whole)
    place = data.draw(st.integers(0, len(whole) - 1))
    byte = data.draw(st.integers(0, 255).filter(lambda value: value != whole[place]))
    after = read_file(writer().id, whole[:place] + bytes([byte]) + whole[place + 1 :])
    assert before is not None
    if after is not None:
        assert after.events[: after.signed] == before.events[: after.signed]
