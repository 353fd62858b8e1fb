"""What all computers of an office know together: whoever saw a thing last says how it is."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any

import msgspec
import sqlalchemy as sa

from dunechest.ledger.lines import Told, is_bad
from dunechest.ledger.rows import Rows
from dunechest.ledger.schema import TABLES, values_of
from dunechest.ledger.tables import LATEST

#: What several computers can say of the same chest; of the rest each speaks of itself.
_COMMON = ("archive", "check", "chest", "drill", "forget", "hold", "keep", "retire", "room")
_OWN = ("rehome", "seen")
#: Which step of a chest's log an event is.
_LINE = "line"
#: What a search asks for.
OF_CHESTS = ("chest", "hold", "keep", "retire")
#: The number of a device, which is short; that of a filesystem is not.
_OF_A_DEVICE = re.compile(r"[0-9a-f]{1,8}")
_FACTS = msgspec.json.Decoder(dict[str, Any])


class Computer(msgspec.Struct, frozen=True):
    """A computer of an office: its number and name there, its own id, and moments in seconds since 1970.

    `heard` is when it last told something, None if it never did; `removed` when it was shut out.
    """

    number: int
    name: str
    machine: str
    added: float
    removed: float | None
    heard: float | None


class Said(msgspec.Struct, frozen=True):
    """What a computer said last of something: its number there, the sort of event, when, its order, facts, and the event's id."""

    computer: int
    what: str
    moment: float
    number: int
    facts: dict[str, Any]
    id: str = ""


class OfficeNow(msgspec.Struct, frozen=True):
    """What was read of an office's ledger, and when (seconds since 1970, by this computer's clock)."""

    when: float
    computers: tuple[Computer, ...]
    said: tuple[Said, ...]

    def named(self, computer: int) -> str:
        """Return the name of a computer."""
        return next((item.name for item in self.computers if item.number == computer), f"computer {computer}")

    def known(self) -> tuple[Rows, dict[str, str]]:
        """Return what is known of chests, and the name of the computer that last saw each, by the chest's id.

        Of what several computers say of the same thing, the one that saw it last is right.
        """
        found: dict[str, list[Told]] = {what: [] for what in _COMMON}
        seen_by: dict[str, int] = {}
        names = {item.number: item.name for item in self.computers}
        for turn, said in enumerate(self._in_order()):
            if said.what in found:
                found[said.what].append(Told(_in_office(said), said.moment, turn))
            if said.what == "chest" and values_of(TABLES["chest"], said.facts, 0.0) is not None:
                seen_by[said.facts["id"]] = said.computer
        return Rows(found), {chest: names.get(computer, "") for chest, computer in seen_by.items()}

    def own_rows(self) -> dict[int, Rows]:
        """Return what each computer says of itself, by its number: libraries that it has, and that it moved to drives."""
        found: dict[int, dict[str, list[Told]]] = {}
        for turn, said in enumerate(sorted(self.said, key=_number)):
            if said.what in _OWN:
                found.setdefault(said.computer, {}).setdefault(said.what, []).append(
                    Told(said.facts, said.moment, turn)
                )
        return {item.number: Rows(found.get(item.number, {})) for item in self.computers}

    def _in_order(self) -> list[Said]:
        """Return what was said, the latest last. What one computer says of a thing later never counts as earlier."""
        latest: dict[tuple[Any, ...], float] = {}
        keys = {what: TABLES[what].key for what in _COMMON}
        found = []
        for said in sorted(self.said, key=_number):
            if said.what not in keys:
                continue
            # The key that came with the facts may lie.
            thing = (said.computer, said.what, *[str(said.facts.get(name, "")) for name in keys[said.what]])
            before = latest.get(thing)
            if before is not None and before > said.moment:
                said = msgspec.structs.replace(said, moment=before)
            latest[thing] = said.moment
            found.append(said)
        found.sort(key=_order)
        return self._by_steps(found)

    def _by_steps(self, found: list[Said]) -> list[Said]:
        """Put what several computers say of a chest into the order of its log, as far as that has it: no clock counts there."""
        steps = {
            (said.computer, said.facts["id"]): said.facts["step"]
            for said in self.said
            if said.what == _LINE and not said.facts.get("text") and values_of(TABLES[_LINE], said.facts, 0.0)
        }
        places: dict[str, list[int]] = {}
        for place, said in enumerate(found):
            if (said.computer, said.id) in steps:
                places.setdefault(str(said.facts.get("chest")), []).append(place)
        for own in places.values():
            ordered = sorted(
                (found[place] for place in own),
                key=lambda said: (
                    steps[said.computer, said.id],
                    is_bad(said.what, said.facts),
                    said.computer,
                    said.number,
                ),
            )
            for place, said in zip(own, ordered, strict=True):
                found[place] = said
        return found


def drive_in_office(computer: int, drive: str) -> str:
    """Return what tells a drive from others in an office, from what a computer tells it by.

    Of some filesystems a system gives only the number of the device that a drive got there: on another computer another drive
    has that number.
    """
    return f"{computer} {drive}" if _OF_A_DEVICE.fullmatch(drive) else drive


def _in_office(said: Said) -> dict[str, Any]:
    """Return facts that mean on any computer what they mean on the one that said so."""
    facts = said.facts
    drive, where = facts.get("drive"), facts.get("where")
    if isinstance(drive, str) and _OF_A_DEVICE.fullmatch(drive):
        facts = facts | {"drive": drive_in_office(said.computer, drive)}
    # What was found on a drive counts, whatever number the drive had where it was found.
    if isinstance(where, str) and _OF_A_DEVICE.fullmatch(where.partition(":")[0]):
        facts = facts | {"where": ""}
    return facts


def _number(said: Said) -> tuple[int, int]:
    return said.computer, said.number


def _order(said: Said) -> tuple[float, int, int]:
    return said.moment, said.computer, said.number


def read_office(connection: sa.Connection, when: float, sorts: Sequence[str] = (*_COMMON, *_OWN, _LINE)) -> OfficeNow:
    """Read what an office knows.

    Parameters
    ----------
    connection : sqlalchemy.Connection
        To its ledger.
    when : float
        Now, in seconds since 1970.
    sorts : sequence of str
        The sorts of events that are asked for.
    """
    computers = tuple(
        Computer(row.number, row.name, row.machine or "", row.added, row.removed, row.heard)
        for row in connection.execute(sa.text("SELECT * FROM computers ORDER BY name"))
    )
    # As text it is read at once; the driver would take apart each row by itself.
    facts = sa.cast(LATEST.c.facts, sa.Text)
    asked = sa.select(LATEST.c.computer, LATEST.c.what, LATEST.c.moment, LATEST.c.number, facts, LATEST.c.id)
    said = []
    for computer, what, moment, number, text, own in connection.execute(asked.where(LATEST.c.what.in_(sorts))).all():
        try:
            said.append(Said(computer, what, moment, number, _FACTS.decode(text), own))
        except msgspec.MsgspecError:
            continue  # no event of ours
    return OfficeNow(when, computers, tuple(said))
