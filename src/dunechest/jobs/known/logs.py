"""Keep the log of a chest and this computer's ledger in step: each takes from the other what it has not got.

Every command that opens a chest does so, also one that finds nothing to do. Reading never needs to write: where the chest
cannot be written to, what this computer did waits in its ledger until it can.
"""

from __future__ import annotations

import sqlite3
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

import msgspec
from filelock import FileLock, Timeout

from dunechest.chest.chest import Chest
from dunechest.chest.chest_record import read_chest
from dunechest.chest.log import Event, LogFile, Writer, add, read_log
from dunechest.errors import DuneChestError
from dunechest.ledger import events
from dunechest.ledger.folder import state_folder
from dunechest.ledger.lines import LOGGED, Told, is_bad, log_key, lost_lines, order_of, overtaken, same_mark
from dunechest.ledger.own import own_events
from dunechest.ledger.own_key import own_key, own_log_id
from dunechest.ledger.rows import HARMED
from dunechest.ledger.schema import TABLES, rows_after, values_of
from dunechest.machine.identity import this_machine
from dunechest.machine.volumes import identity
from dunechest.names import is_slug, shown
from dunechest.transfer.owner import make_own

#: So many files and, of each, lines of other computers are taken in at a time; more is no household's.
_FILES, _LINES = 64, 2000
#: Characters of a text that another computer wrote.
_LONG = 4000
#: Seconds to wait for another process of this computer.
_WAIT = 10


class _Known(msgspec.Struct, frozen=True):
    """What this computer has of a chest: its own events, and the lines of the log that it read or wrote."""

    own: list[tuple[str, Told]]
    lines: list[dict[str, Any]]
    last: str
    at: str
    older: dict[str, Any] | None
    lost: set[str]
    harmed: bool

    def highest(self, by: str, *, here: bool = False) -> dict[str, Any] | None:
        """Return the line of a computer with the highest number; if asked for, of those met on this very medium."""
        rows = [row for row in self.lines if row["by"] == by and (row["at"] == self.at or not here)]
        return max(rows, key=lambda row: row["number"], default=None)


def keep_in_step(chest: Chest, *, write: bool = True) -> None:
    """Take what is new in a chest's log into the ledger, and add to the log what it lacks of this computer.

    A failure is no reason to fail: what was done is done, and what is known is in one of the two.

    Parameters
    ----------
    chest : Chest
        The chest.
    write : bool
        Whether to add to its log: whoever only reads in a chest leaves nothing there, and what they found waits in their
        ledger. Nothing is added where the chest's own record is damaged.
    """
    if events.unnoted_now():
        return
    state = state_folder()
    try:
        make_own(state)
        with FileLock(state / "logs.lock", timeout=_WAIT):
            logs = read_log(chest.folder)[:_FILES]
            known = _known(chest)
            own = own_log_id(state)
            items = _missing(chest, known, logs)
            for log in logs:
                items += _taken(chest, known, log, own)
            if items:
                events.try_append(*items)
                known = _known(chest)
            if write and not chest.faults:
                _add(chest, known, next((log for log in logs if log.id == own), None))
    except (OSError, sqlite3.Error, Timeout, DuneChestError):
        return


def look_into_log(folder: Path) -> None:
    """Take what is new in the log of a chest that is not opened, and change nothing in it; see `keep_in_step`."""
    try:
        chest = Chest(folder, *read_chest(folder))
    except (DuneChestError, OSError):
        return
    keep_in_step(chest, write=False)


def _known(chest: Chest) -> _Known:
    found = own_events()
    own = [
        (what, told)
        for what in LOGGED
        for told in found.get(what, ())
        if told.facts.get("chest") == chest.id and values_of(TABLES[what], told.facts, 0.0) is not None
    ]
    own.sort(key=lambda pair: pair[1].turn)
    own_lines = [told for told in found.get("line", ()) if told.facts.get("chest") == chest.id]
    lines = rows_after(TABLES["line"], own_lines)
    last = max((order_of(told.id) for _, told in own), default=(0, ""))
    at = identity(chest.folder)
    rows = rows_after(TABLES["older"], found.get("older", ()))
    older = next((row for row in rows if row["chest"] == chest.id and row["where"] == at), None)
    of_chest: dict[str, list[Told]] = {}
    for what, told in own:
        of_chest.setdefault(what, []).append(told)
    lost = lost_lines(of_chest, lines, own_log_id(state_folder()))
    return _Known(own, lines, f"{last[0]}-{last[1]}", at, older, lost, bool(found.get(HARMED)))


# Taking in.


def _taken(chest: Chest, known: _Known, log: LogFile, own: str) -> list[tuple[str, dict[str, Any]]]:
    """Return what is to be noted of the lines of a file that this computer has not read."""
    before = known.highest(log.id, here=True)
    number = before["number"] if before is not None else 0
    heard = {row["id"] for row in known.lines if row["by"] == log.id} - known.lost
    found: dict[tuple[str, str], tuple[str, dict[str, Any]]] = {}
    # A log may lie: with a step that nothing can follow it would have the last word for ever.
    most = max((row["step"] for row in known.lines), default=0) + max(log.number - number, 0) + _LINES
    for place, event in enumerate(log.events):
        passed = event.number <= number and _same_line(before, log) and not known.harmed
        if (passed and event.id not in known.lost) or event.id in heard:
            # It is known, and what it replaced counts no more.
            found.pop((event.what, log_key(event.what, event.facts)), None)
            continue
        line = _line(chest, known.at, event, log, signed=place < log.signed)
        if line is not None:
            line["step"] = min(line["step"], most)
            found.pop((event.what, line["key"]), None)  # what is replaced is left out
            found[event.what, line["key"]] = ("line", line)
    items = list(found.values())[-_LINES:]
    if items and known.highest(log.id) is None and log.id != own:
        facts = {"id": log.id, "name": _plain(log.head.name), "machine": _plain(log.head.machine), "chest": chest.id}
        items.insert(0, ("computer", facts))
    return items


def _same_line(before: Mapping[str, Any] | None, log: LogFile) -> bool:
    """Whether a file continues what this computer read of it, and was not begun again."""
    if before is None:
        return False
    same = next((item for item in log.events if item.number == before["number"]), None)
    return same is None or same.id == before["id"]


def _line(chest: Chest, at: str, event: Event, log: LogFile, *, signed: bool) -> dict[str, Any] | None:
    """Return what is noted of a line; None if it says nothing that counts here."""
    facts = _safe(event.facts)
    if event.what not in LOGGED or facts is None:
        return None
    if facts.get("chest") != chest.id:
        # A copy of another chest that got an id of its own: what was wrong there is wrong here, and nothing is proven.
        if not is_bad(event.what, facts) or event.what == "hold":
            return None
        facts["chest"] = chest.id
    if values_of(TABLES[event.what], facts, 0.0) is None or ("bag" in facts and not is_slug(str(facts["bag"]))):
        return None
    if not 0 < event.number < 1 << 31 or not 0 < event.step < 1 << 62:
        return None
    return {
        "chest": chest.id,
        "by": log.id,
        "number": event.number,
        "step": event.step,
        "id": _plain(event.id),
        "what": event.what,
        "key": log_key(event.what, facts),
        "moment": event.moment,
        "text": msgspec.json.encode(facts).decode(),
        "same": same_mark(facts),
        "signed": signed,
        "upto": "",
        "at": at,
    }


def _safe(facts: dict[str, Any]) -> dict[str, Any] | None:
    """Return facts that another computer wrote, with nothing in them that could act on a screen; None if they are none."""
    if not all(isinstance(value, str | int | float | bool) for value in facts.values()):
        return None
    return {name: _plain(value) if isinstance(value, str) else value for name, value in facts.items()}


def _plain(text: str) -> str:
    return shown(text)[:_LONG]


def _missing(chest: Chest, known: _Known, logs: Sequence[LogFile]) -> list[tuple[str, dict[str, Any]]]:
    """Return the note that the log lacks what this computer knows was in it: an older image of the drive was put back.

    What was found right since then is no proof of what lies there now.
    """
    if chest.is_on_server:
        return []  # what a server lists may be of yesterday
    there = {log.id: log.number for log in logs}
    accepted = _accepted(known.older)
    missing = 0
    for by in {row["by"] for row in known.lines}:
        last, number = known.highest(by, here=True), there.get(by, 0)
        if last is None or number >= last["number"]:
            continue
        if known.older is not None and last["turn"] < known.older["turn"] and number >= accepted.get(by, 0):
            continue  # told when it was found, and no worse since
        missing += last["number"] - number
    if not missing:
        return []
    numbers = msgspec.json.encode(there).decode()
    return [("older", {"chest": chest.id, "missing": missing, "where": known.at, "numbers": numbers})]


def _accepted(older: Mapping[str, Any] | None) -> dict[str, int]:
    """Return the number up to which each file went when the chest was found to be an older one."""
    try:
        return msgspec.json.decode(older["numbers"], type=dict[str, int]) if older is not None else {}
    except msgspec.MsgspecError:
        return {}


# Adding.


def _add(chest: Chest, known: _Known, log: LogFile | None) -> None:
    """Add to the log what it lacks of this computer, and note which lines that became."""
    state = state_folder()
    own = own_log_id(state)
    upto = max((order_of(row["upto"]) for row in known.lines if own and row["by"] == own), default=(-1, ""))
    fresh = [(what, told) for what, told in known.own if order_of(told.id) > upto]
    left_out = overtaken(fresh, known.lines, own)
    there = {event.id for event in log.events} if log is not None else set()
    # What the file lost is told again as soon as it is seen again.
    said = {(r["what"], r["key"]): r["same"] for r in known.lines if own and r["by"] == own and r["id"] in there}
    chosen: dict[tuple[str, str], tuple[str, Told]] = {}
    for what, told in fresh:
        key = what, log_key(what, told.facts)
        if told.id in left_out or (what == "hold" and said.get(key) == same_mark(told.facts)):
            continue
        chosen.pop(key, None)
        chosen[key] = (what, told)
    if not chosen:
        return
    step = max((row["step"] for row in known.lines), default=0)
    lines = [
        Event(0, step + place, told.id, what, told.moment, told.facts)
        for place, (what, told) in enumerate(chosen.values(), 1)
    ]
    machine = this_machine(state)
    signer = own_key(state)
    writer = Writer(signer.public, signer.sign, machine.name, machine.id)
    mine = known.highest(writer.id)
    added = add(chest.folder, writer, log, lines, kept_lines, mine["number"] if mine is not None else 0)
    events.try_append(
        *(
            (
                "line",
                {
                    "chest": chest.id, "by": writer.id, "number": e.number, "step": e.step, "id": e.id, "what": e.what,
                    "key": log_key(e.what, e.facts), "moment": e.moment, "text": "", "same": same_mark(e.facts),
                    "signed": True, "upto": known.last, "at": known.at,
                },
            )
            for e in added
        )
    )  # fmt: skip


def kept_lines(lines: Sequence[Event]) -> Sequence[Event]:
    """Return the lines that a file which has grown large keeps: of those that replace one another, the last."""
    last = {(line.what, log_key(line.what, line.facts)): line.number for line in lines}
    return [line for line in lines if last[line.what, log_key(line.what, line.facts)] == line.number]
