"""What several computers say of one chest, put into one order.

Lines of chests' logs (`dunechest.chest.log`) have steps, which say what came after what in a chest, whoever did it and
whatever a clock said. What this computer noted and no log has yet comes last.

What another computer says counts as if this one had seen it, if a person said that the computer is theirs. Of any other the
bad news counts, and what nothing better is known of is shown.
"""

from __future__ import annotations

import hashlib
import re
from collections import defaultdict
from collections.abc import Collection, Iterable, Mapping
from typing import Any, NamedTuple

import msgspec

#: The sorts of events that a chest's log has.
LOGGED = ("archive", "check", "drill", "forget", "hold", "keep", "round")
_ID = re.compile(r"(\d+)-(.*)", re.DOTALL)
_FACTS = msgspec.json.Decoder(dict[str, Any])
#: The step of what no log has yet.
_LAST = float("inf")

#: What each computer knows best by itself of where a chest is.
_OWN = ("where", "drive", "disk", "weak")
#: Begins what is said to be by a computer that nobody said is theirs.
STRANGER = "?"

Order = tuple[int, str]


class Told(NamedTuple):
    """Facts and moment of an event, its turn among all of them (what came later has a larger one), and its id."""

    facts: dict[str, Any]
    moment: float
    turn: int
    id: str = ""


class _Item(NamedTuple):
    step: float
    rank: bool
    turn: int
    what: str
    told: Told
    by: str
    logged: bool = True


def log_key(what: str, facts: Mapping[str, Any]) -> str:
    """Return which earlier lines of a computer about a chest a line replaces: nobody asks for those any more."""
    names: dict[str, tuple[str, ...]] = {
        "check": ("bag", "quick", "intact", "where"),
        "drill": ("bag", "passed", "where"),
        "archive": ("bag", "where"),
        "keep": (),
    }
    values = [str(facts.get(name, "")) for name in names.get(what, ("bag",))]
    if what == "archive":  # the one that made a bag proves all of it, the last one says what it holds
        values.append(str(facts.get("edition") == 1))
    return "\n".join(values)


def order_of(own: str) -> Order:
    """Return what the ids of this computer's events are ordered by, the one that was noted first at the beginning."""
    match = _ID.fullmatch(own)
    return (int(match.group(1)), match.group(2)) if match is not None else (0, own)


def same_mark(facts: Mapping[str, Any]) -> str:
    """Return what is the same for events that say the same."""
    return hashlib.sha256(repr(sorted(facts.items())).encode()).hexdigest()[:16]


def is_stranger(by: str) -> bool:
    """Whether a row is by a computer that no person said is theirs: then it is only bad news, or what nobody knows better."""
    return by.startswith(STRANGER)


def is_bad(what: str, facts: Mapping[str, Any]) -> bool:
    """Whether an event is bad news of a copy."""
    told = {"check": ("intact", False), "drill": ("passed", False), "hold": ("gone", True)}.get(what)
    return told is not None and facts.get(told[0]) == told[1]


def in_one_order(
    events: Mapping[str, Iterable[Told]], lines: Iterable[Mapping[str, Any]], own: str, mine: Collection[str]
) -> dict[str, list[Told]]:
    """Return events with those of other computers among them, each in its turn.

    Parameters
    ----------
    events : mapping of str to iterable of Told
        What this computer noted, by sort.
    lines : iterable of mapping
        The rows of lines of logs.
    own : str
        This computer's id in logs.
    mine : collection of str
        The ids of computers that a person said are theirs.
    """
    lines = list(lines)
    found = {what: list(told) for what, told in events.items() if what not in LOGGED}
    chests = _own_items(events, lines, own)
    ids = {item.told.id for items in chests.values() for item in items}
    lost = lost_lines(events, lines, own)
    for row in lines:
        if (
            row["id"] not in ids
            and (row["text"] or row["id"] in lost)
            and (item := _said(row, own, mine)) is not None
        ):
            chests[row["chest"]].append(item)
    for items in chests.values():
        kept = _without_overtaken(_without_fillers(items))
        turns = sorted(item.turn for item in kept)
        for turn, item in zip(turns, sorted(kept), strict=True):
            found.setdefault(item.what, []).append(Told(item.told.facts | {"by": item.by}, item.told.moment, turn))
    for told in found.values():
        told.sort(key=lambda item: item.turn)
    return found


def _own_items(
    events: Mapping[str, Iterable[Told]], lines: Iterable[Mapping[str, Any]], own: str
) -> dict[str, list[_Item]]:
    """Return what this computer noted of each chest, with the step that its log gave it."""
    steps = {row["id"]: row["step"] for row in lines if row["by"] == own}
    upto: dict[str, Order] = defaultdict(lambda: (-1, ""))
    for row in lines:
        if row["by"] == own:
            upto[row["chest"]] = max(upto[row["chest"]], order_of(row["upto"]))
    found: dict[str, list[_Item]] = defaultdict(list)
    before: dict[str, float] = defaultdict(float)
    every = [(told, what) for what in LOGGED for told in events.get(what, ())]
    # Its log has its events in their order, so what came before one that is there is not news, whatever became of `upto`.
    for told, _ in every:
        if told.id in steps and isinstance(chest := told.facts.get("chest"), str):
            upto[chest] = max(upto[chest], order_of(told.id))
    for told, what in sorted(every, key=lambda pair: pair[0].turn):
        chest = told.facts.get("chest")
        if not isinstance(chest, str):
            continue
        step = steps.get(told.id)
        if step is None:  # one that a later one replaced in the log
            step = before[chest] if order_of(told.id) <= upto[chest] else _LAST
        before[chest] = max(before[chest], step) if step != _LAST else before[chest]
        found[chest].append(_Item(step, False, told.turn, what, told, "", told.id in steps))
    return found


def _said(row: Mapping[str, Any], own: str, mine: Collection[str]) -> _Item | None:
    """Return what a line says, if it counts."""
    try:
        facts = _FACTS.decode(row["text"]) if row["text"] else _stand_in(row)
    except msgspec.MsgspecError:
        return None
    if facts is None:
        return None
    what, by = row["what"], row["by"]
    bad = is_bad(what, facts)
    trusted = row["signed"] and (by == own or by in mine)
    if not (trusted or bad or what == "hold"):
        return None
    by = "" if trusted and by == own else by if trusted else STRANGER + by
    moment = min(row["moment"], row["when"])  # it was not later than when it was heard of
    return _Item(row["step"], bad, row["turn"], what, Told(facts, moment, row["turn"], row["id"]), by)


def _stand_in(row: Mapping[str, Any]) -> dict[str, Any] | None:
    """Return what a line says of an own event that the ledger lost, if that was bad news: its key tells."""
    names = {"check": ("bag", "quick", "intact", "where"), "drill": ("bag", "passed", "where")}.get(row["what"], ())
    values = row["key"].split("\n")
    if not names or len(values) != len(names):
        return None
    told: dict[str, Any] = dict(zip(names, values, strict=True))
    told |= {name: value == "True" for name, value in told.items() if name in ("quick", "intact", "passed")}
    facts = {"chest": row["chest"], "files": 0, "wrong": 1, "edition": 0, "top": ""} | told
    return facts if is_bad(row["what"], facts) else None


def lost_lines(events: Mapping[str, Iterable[Told]], lines: Iterable[Mapping[str, Any]], own: str) -> set[str]:
    """Return the ids of own events of which only a line is left: the ledger lost them, and the chest's log has them.

    Parameters are those of `in_one_order`.
    """
    kept: dict[tuple[str, str, str], Order] = {}
    for what in LOGGED:
        for told in events.get(what, ()):
            key = str(told.facts.get("chest")), what, log_key(what, told.facts)
            kept[key] = max(kept.get(key, (-1, "")), order_of(told.id))
    return {
        row["id"]
        for row in lines
        if row["by"] == own
        and not row["text"]
        and kept.get((row["chest"], row["what"], row["key"]), (-1, "")) < order_of(row["id"])
    }


def proven_bag(row: Mapping[str, Any]) -> str:
    """Return the bag of which a line says that every byte was found right; empty if it does not."""
    item = _said(row, "", (row["by"],)) if row["signed"] and row["text"] else None
    if item is None or not _proves(item) or item.told.facts.get("quick"):
        return ""
    return str(item.told.facts.get("bag", ""))


def _without_fillers(items: list[_Item]) -> list[_Item]:
    """Leave out what others say of a bag of which something better is known.

    Where its drive is mounted here, and what tells it from others, this computer knows by itself.
    """
    holds = [item for item in items if item.what == "hold"]
    own = {item.told.facts.get("bag") for item in holds if not item.by}
    known = {item.told.facts.get("bag"): item for item in sorted(holds) if not is_stranger(item.by)}
    found = []
    for item in items:
        bag = item.told.facts.get("bag")
        if item.what == "hold" and item.by and not item.rank:
            if is_stranger(item.by) and bag in known:
                if not _took_its_place(item, known[bag]):
                    continue
                item = item._replace(step=max(item.step, known[bag].step))
            if bag in own:
                facts = {name: value for name, value in item.told.facts.items() if name not in _OWN}
                item = item._replace(told=item.told._replace(facts=facts))
        found.append(item)
    return found


def _took_its_place(item: _Item, known: _Item) -> bool:
    """Whether what a stranger says of a bag is that it is another library since: bad news of the one that is known there."""
    whose = ("machine", "origin")
    other = any(item.told.facts.get(name) != known.told.facts.get(name) for name in whose)
    later = item.step > known.step if known.logged else item.turn > known.turn
    return other and later


def _without_overtaken(items: list[_Item]) -> list[_Item]:
    """Leave out what this computer found right while another one, of which it had not heard, found damage."""
    bad: dict[Any, int] = {}
    for item in items:
        if item.by and item.rank:
            bag = item.told.facts.get("bag")
            bad[bag] = max(bad.get(bag, -1), item.turn)
    return [item for item in items if item.logged or not _proves(item) or item.turn > _heard(bad, item)]


def _proves(item: _Item) -> bool:
    facts = item.told.facts
    return (item.what == "check" and facts.get("intact") is True) or (
        item.what == "archive" and facts.get("edition") == 1
    )


def _heard(bad: Mapping[Any, int], item: _Item) -> int:
    return bad.get(item.told.facts.get("bag"), -1)


def overtaken(events: Iterable[tuple[str, Told]], lines: Iterable[Mapping[str, Any]], own: str) -> frozenset[str]:
    """Return the ids of own events that no log shall have: another computer found damage of which they did not know."""
    said = [_said(row, own, ()) for row in lines if row["by"] != own]
    items = [_Item(_LAST, False, told.turn, what, told, "", logged=False) for what, told in events]
    kept = {item.told.id for item in _without_overtaken([*items, *filter(None, said)]) if not item.by}
    return frozenset(item.told.id for item in items) - kept
