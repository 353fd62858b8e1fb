"""A chest's log: what each computer did to the chest and found in it, a file for each (``log/COMPUTER.jsonl``).

The log lets a computer that meets the chest know what all others did. It is evidence of doing, never of content: that is
proven by digests alone. A file is JSON lines::

    {"type":"head","format":1,"key":"...","name":"kitchen","machine":"...","through":0,"before":""}
    {"type":"event","number":1,"step":1,"id":"...","what":"check","moment":...,"facts":{...},"before":"..."}
    {"type":"signature","before":"...","signature":"..."}

`before` is the start of the SHA-256 of the line before (hexadecimal): what follows a broken link is not believed. `number`
counts the computer's own events in this chest without a gap, `step` is higher than that of every event that the computer knew
of this chest, so that events of several computers have an order without any clock. Each time something is added, a signature
(Ed25519, RFC 8032) closes it; it covers all lines above. The file is named after the key that signed it, so no computer can
speak for another one. A torn last line is ignored.

When a file has grown large, events that nobody asks for any more are left out; `through` is the last number that may be
missing.
"""

from __future__ import annotations

import hashlib
import os
from collections.abc import Callable, Iterable, Sequence
from contextlib import suppress
from pathlib import Path
from typing import Any

import msgspec
from msgspec.structs import replace

from dunechest.chest.layout import LOG
from dunechest.ledger.own_key import DIGITS, id_of
from dunechest.paths import is_link
from dunechest.regex import late
from dunechest.transfer import disk, safe
from dunechest.transfer.owner import give, owner_above

FORMAT = 1
#: Bytes from which on a file is shortened, if that helps; and bytes of the largest that is read.
LARGE = 1 << 18
_MOST = 1 << 24
#: Bytes of a whole log that are read; a household's has far fewer.
_ALL = 1 << 26
_NAME = late(r"([0-9a-f]{32})\.jsonl")
#: What a signature is of, so that it can be none of anything else.
_ABOUT = b"dune-chest log "


class Head(msgspec.Struct, frozen=True, tag_field="type", tag="head"):
    """Whose file it is: the public key (hexadecimal), the computer's name for people, and its own id in bags' records.

    Up to the number `through`, events may have been left out.
    """

    format: int
    key: str
    name: str
    machine: str
    through: int = 0
    before: str = ""


class Event(msgspec.Struct, frozen=True, tag_field="type", tag="event"):
    """Something that a computer did or found: its number, its step, its id, the sort, when (seconds since 1970), and facts."""

    number: int
    step: int
    id: str
    what: str
    moment: float
    facts: dict[str, Any]
    before: str = ""


class Signature(msgspec.Struct, frozen=True, tag_field="type", tag="signature"):
    """The signature of the line before and, by its link, of all above."""

    before: str
    signature: str


_Line = Head | Event | Signature
_DECODER = msgspec.json.Decoder(_Line)


class LogFile(msgspec.Struct, frozen=True):
    """What a file of a chest's log says.

    Parameters
    ----------
    id : str
        The computer's id in logs, made of its key.
    head : Head
        The head.
    events : tuple of Event
        In the order of their numbers.
    signed : int
        How many of the events a signature covers; the others may be anybody's.
    broken : bool
        Whether lines follow that do not belong to those before.
    last : str
        The link that the next line has to the last one.
    size : int
        Bytes of the file.
    """

    id: str
    head: Head
    events: tuple[Event, ...]
    signed: int
    broken: bool
    last: str
    size: int

    @property
    def number(self) -> int:
        """The number of the last event."""
        return max(_last(self.events), self.head.through)


def read_log(chest: Path) -> tuple[LogFile, ...]:
    """Return what the log of a chest says, file by file; a file that cannot be read, or is none of ours, is passed over.

    Parameters
    ----------
    chest : Path
        The folder of the chest.
    """
    folder = chest / LOG
    try:
        if is_link(folder):
            return ()
        names = sorted(os.listdir(folder))
    except OSError:
        return ()
    found = []
    room = _ALL
    for name in names:
        match = _NAME.fullmatch(name)
        if match is None or room <= 0:
            continue
        try:
            content = safe.read_bounded(folder / name, _MOST)
        except (OSError, ValueError):
            continue
        room -= len(content)
        log = read_file(match.group(1), content)
        if log is not None:
            found.append(log)
    return tuple(found)


def read_file(own: str, content: bytes) -> LogFile | None:
    """Return what a file of a log says; None if it is not the one of the computer that it is named after.

    Parameters
    ----------
    own : str
        The computer's id in logs: the name of the file.
    content : bytes
        All of the file.
    """
    head: Head | None = None
    events: list[Event] = []
    last, broken = "", False
    signatures: list[tuple[int, str, str]] = []
    for raw in content.split(b"\n")[:-1]:  # what follows the last end of a line was torn
        try:
            line = _DECODER.decode(raw)
        except (msgspec.MsgspecError, UnicodeDecodeError):
            continue  # torn once, and added to since: the links say whether anything is missing
        if line.before != last or (head is None) != isinstance(line, Head):
            broken = True
            break
        if isinstance(line, Head):
            if line.format != FORMAT or not _is_of(line.key, own):
                return None
            head = line
        elif isinstance(line, Event):
            if line.number != _next(head, events) and not (line.number > _last(events) and _left_out(head, line)):
                broken = True
                break
            events.append(line)
        else:
            signatures.append((len(events), line.signature, last))
        last = _link(raw)
    # Each line is linked to all before it: the last signature that is right is one of all that it follows.
    signed = next(
        (n for n, signature, link in reversed(signatures) if head and _verifies(head.key, signature, link)), 0
    )
    return LogFile(own, head, tuple(events), signed, broken, last, len(content)) if head is not None else None


def _is_of(key: str, own: str) -> bool:
    try:
        return id_of(bytes.fromhex(key)) == own
    except ValueError:
        return False


def _last(events: Sequence[Event]) -> int:
    return events[-1].number if events else 0


def _next(head: Head | None, events: Sequence[Event]) -> int:
    return max(_last(events), head.through if head is not None else 0) + 1


def _left_out(head: Head | None, line: Event) -> bool:
    return head is not None and line.number <= head.through


def _link(raw: bytes) -> str:
    return hashlib.sha256(raw).hexdigest()[:DIGITS]


def _verifies(key: str, signature: str, link: str) -> bool:
    from cryptography.exceptions import InvalidSignature
    from cryptography.hazmat.primitives.asymmetric.ed25519 import Ed25519PublicKey

    try:
        Ed25519PublicKey.from_public_bytes(bytes.fromhex(key)).verify(
            bytes.fromhex(signature), _ABOUT + link.encode()
        )
    except (InvalidSignature, ValueError):
        return False
    return True


class Writer(msgspec.Struct, frozen=True):
    """Who writes: the public key, what signs, the computer's name for people, and its own id in bags' records."""

    key: bytes
    sign: Callable[[bytes], bytes]
    name: str
    machine: str

    @property
    def id(self) -> str:
        """The computer's id in logs."""
        return id_of(self.key)


def add(
    chest: Path,
    writer: Writer,
    log: LogFile | None,
    events: Iterable[Event],
    keep: Callable[[Sequence[Event]], Sequence[Event]],
    known: int = 0,
) -> tuple[Event, ...]:
    """Add events to the log of a chest; return them as they stand there, with their numbers.

    Parameters
    ----------
    chest : Path
        The folder of the chest.
    writer : Writer
        This computer.
    log : LogFile or None
        What its own file says by now.
    events : iterable of Event
        What to add; their numbers and links do not matter.
    keep : callable
        Says which events of a file that has grown large are left in it.
    known : int
        The highest number that this computer gave an event here, as far as it remembers.

    Raises
    ------
    OSError
        If the chest cannot be written to. Its log is then as it was.
    """
    folder = chest / LOG
    if is_link(folder):
        raise OSError(f"{LOG} is a link")
    path = folder / f"{writer.id}.jsonl"
    if log is None and _is_later(path):
        raise OSError("a later version of Dune Chest wrote this computer's log")
    # What no signature of this computer covers may be anybody's, and is not signed now.
    before = log.events[: log.signed] if log is not None else ()
    number = max(known, before[-1].number if before else 0, log.head.through if log is not None else 0)
    added = tuple(replace(event, number=number + place) for place, event in enumerate(events, 1))
    if log is not None and _can_grow(log, writer, number):
        content = safe.read_bounded(path, _MOST)
        if len(content) != log.size:
            raise OSError("another process writes to it")
        content = content if content.endswith(b"\n") else content + b"\n"
        lines, last = _lines(added, log.last)
        content += _signed(writer, lines, last)
    else:
        every = (*before, *added)
        kept = keep(every) if log is not None and log.size >= LARGE else every
        first = msgspec.json.encode(Head(FORMAT, writer.key.hex(), writer.name, writer.machine, number))
        lines, last = _lines(kept, _link(first))
        content = _signed(writer, [first, *lines], last)
    owner, made = owner_above(folder), not folder.is_dir()
    disk.make_folder(folder)
    safe.write_file(path, content)
    # Written by the administrator for somebody, who is to be able to add to it.
    with suppress(OSError):  # some filesystems have no owners
        give(owner, [folder if made else path])
    return added


def _can_grow(log: LogFile, writer: Writer, number: int) -> bool:
    """Whether a file can be added to as it is."""
    whole = not log.broken and log.signed == len(log.events) and log.number == number
    return whole and log.head.name == writer.name and log.size < LARGE


def _is_later(path: Path) -> bool:
    """Whether a file of a log is one of a format that is not known here."""
    try:
        head = msgspec.json.decode(safe.read_bounded(path, _MOST).partition(b"\n")[0], type=dict[str, Any])
    except (OSError, ValueError):
        return False
    told = head.get("format")
    return isinstance(told, int) and told > FORMAT


def _lines(events: Iterable[Event], last: str) -> tuple[list[bytes], str]:
    lines = []
    for event in events:
        lines.append(msgspec.json.encode(replace(event, before=last)))
        last = _link(lines[-1])
    return lines, last


def _signed(writer: Writer, lines: Sequence[bytes], last: str) -> bytes:
    signature = writer.sign(_ABOUT + last.encode()).hex()
    return b"\n".join([*lines, msgspec.json.encode(Signature(last, signature)), b""])
