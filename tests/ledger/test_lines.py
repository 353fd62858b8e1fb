"""What several computers say of one chest: damage stands until somebody who knew of it found every byte right."""

from __future__ import annotations

import msgspec
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from dunechest.ledger.lines import Told, in_one_order, is_bad, log_key, order_of, overtaken

NAMES = ("a", "b", "c")
CHEST = "c" * 32


class Computer:
    """A computer with its own ledger, in which a later event replaces an earlier one of its sort, and a log that all share."""

    def __init__(self, name: str) -> None:
        self.name = name
        self.turn = 0
        self._own: dict[bool, Told] = {}
        self._lines: dict[tuple[object, object], dict[str, object]] = {}

    @property
    def own(self) -> list[Told]:
        return sorted(self._own.values(), key=lambda told: told.turn)

    @property
    def lines(self) -> list[dict[str, object]]:
        return list(self._lines.values())

    def _next(self) -> int:
        self.turn += 1
        return self.turn

    def check(self, intact: bool, time: int) -> None:
        facts = {"chest": CHEST, "bag": "shed", "quick": False, "intact": intact, "time": time}
        turn = self._next()
        self._own[intact] = Told(facts, float(time), turn, f"{turn}-{self.name}")

    def look(self, shared: list[dict[str, object]]) -> None:
        last = {
            name: max((int(str(i["number"])) for i in self.lines if i["by"] == name), default=0) for name in NAMES
        }
        for line in shared:
            if int(str(line["number"])) > last[str(line["by"])] and line["by"] != self.name:
                self._lines[line["by"], line["key"]] = line | {"turn": self._next(), "when": 1e9}

    def write(self, shared: list[dict[str, object]]) -> None:
        self.look(shared)
        last = max((order_of(str(line["upto"])) for line in self.lines if line["by"] == self.name), default=(-1, ""))
        fresh = [told for told in self.own if order_of(told.id) > last]
        left_out = overtaken([("check", told) for told in fresh], self.lines, self.name)
        upto = max((order_of(told.id) for told in self.own), default=(0, ""))
        for told in fresh:
            if told.id in left_out:
                continue
            step = max((int(str(line["step"])) for line in [*shared, *self.lines]), default=0) + 1
            line = {
                "chest": CHEST, "by": self.name, "number": len(shared) + 1, "step": step, "id": told.id, "what": "check",
                "key": log_key("check", told.facts), "moment": told.moment, "signed": True, "same": "",
                "upto": f"{upto[0]}-{upto[1]}", "at": "",
            }  # fmt: skip
            shared.append(line | {"text": msgspec.json.encode(told.facts).decode()})
            self._lines[self.name, line["key"]] = line | {"text": "", "turn": self._next(), "when": 1e9}

    def order(self) -> list[Told]:
        told = in_one_order({"check": self.own}, self.lines, self.name, NAMES)
        return told.get("check", [])


ACTS = st.lists(
    st.tuples(st.sampled_from(NAMES), st.sampled_from(("intact", "damaged", "look", "write"))),
    min_size=3,
    max_size=14,
)


@settings(max_examples=600)
@given(ACTS)
def test_damage_stands_until_every_byte_was_found_right_later(acts: list[tuple[str, str]]) -> None:
    computers = {name: Computer(name) for name in NAMES}
    shared: list[dict[str, object]] = []
    for time, (name, what) in enumerate(acts, 1):
        computer = computers[name]
        if what == "look":
            computer.look(shared)
        elif what == "write":
            computer.write(shared)
        else:
            computer.check(what == "intact", time)
        for other in computers.values():
            order = other.order()
            bad = [told.facts["time"] for told in (*order, *other.own) if is_bad("check", told.facts)]
            if order and not is_bad("check", order[-1].facts):
                assert all(when < order[-1].facts["time"] for when in bad), (acts[:time], other.name)
            assert {told.facts["time"] for told in order if is_bad("check", told.facts)} == set(bad)
            if not any(
                line["text"] for line in other.lines
            ):  # what one computer alone knows is in the order of its own
                assert [told.facts["time"] for told in order] == [told.facts["time"] for told in other.own]


def test_what_came_before_a_line_of_its_own_is_not_the_last_word() -> None:
    """A log that was read again from the start, as that of a copy of the chest is, no longer says up to where it was written."""
    gone = Told({"chest": CHEST, "bag": "shed", "gone": True}, 2.0, 2, "2-a")
    back = Told({"chest": CHEST, "bag": "shed", "gone": False}, 3.0, 3, "3-a")
    line = {
        "chest": CHEST, "by": "a", "number": 6, "step": 6, "id": "3-a", "what": "hold", "key": "shed", "moment": 3.0,
        "signed": True, "same": "", "upto": "", "at": "", "turn": 9, "when": 1e9, "text": "{}",
    }  # fmt: skip
    told = in_one_order({"hold": [gone, back]}, [line], "a", NAMES)["hold"]
    assert [item.facts["gone"] for item in told] == [True, False]


@pytest.mark.parametrize(
    ("logged", "origin", "step", "turn", "taken"),
    [
        (True, "/b", 9, 7, True),
        (True, "/b", 3, 7, False),
        (True, "/a", 9, 7, False),
        (False, "/b", 3, 7, True),
        (False, "/b", 9, 3, False),
        (False, "/a", 9, 7, False),
    ],
)
def test_a_stranger_is_believed_that_a_bag_is_another_library_since(
    logged: bool, origin: str, step: int, turn: int, taken: bool
) -> None:
    facts = {"chest": CHEST, "bag": "shed", "gone": False, "machine": "a", "origin": "/a", "edition": 1}
    own = Told(facts, 2.0, 5, "5-a")
    common = {
        "chest": CHEST, "what": "hold", "key": "shed", "moment": 3.0, "signed": True, "same": "", "upto": "", "at": "",
        "when": 1e9, "number": 1,
    }  # fmt: skip
    mine = common | {"by": "a", "step": 5, "id": "5-a", "text": "", "turn": 6}
    text = msgspec.json.encode(facts | {"origin": origin, "edition": 2}).decode()
    theirs = common | {"by": "b", "step": step, "id": "7-b", "turn": turn, "text": text}
    told = in_one_order({"hold": [own]}, [*([mine] if logged else []), theirs], "a", ())["hold"]
    assert told[-1].facts["edition"] == (2 if taken else 1)
