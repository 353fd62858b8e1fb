"""Events: what happened, a small file of JSON lines each time.

A job only ever adds an event. It goes into the database when the ledger is next
asked something, so that a ten-file check does not wait for a database library to
load, and two programs that write at once never meet.
"""

from __future__ import annotations

import hashlib
import os
import uuid
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from contextvars import ContextVar
from typing import Any

import msgspec

from dunechest import clock
from dunechest.errors import DuneChestError
from dunechest.ledger.folder import state_folder
from dunechest.names import shown
from dunechest.transfer import safe
from dunechest.transfer.owner import hand_over, make_own

#: The folder of events that are not yet in the ledger's database.
NOTES = "notes"
#: The name among the facts under which their digest stands.
SEAL = "#"


_lost: list[str] = []
_unnoted: ContextVar[bool] = ContextVar("unnoted", default=False)


class Event(msgspec.Struct, frozen=True):
    """One thing that happened: what (``chest``, ``archive``, ``check``, ``restore``, ``seen``), when, and facts."""

    what: str
    when: float
    facts: dict[str, Any]


def append(what: str, **facts: Any) -> None:
    """Write one event.

    Parameters
    ----------
    what : str
        Sort of event.
    **facts
        JSON values.

    Raises
    ------
    DuneChestError
        If the ledger cannot be written; the job itself is done all the same.
    """
    append_many([(what, facts)])


def append_many(items: list[tuple[str, dict[str, Any]]]) -> None:
    """Write several events with one flush; none while `unnoted` holds."""
    if unnoted_now():
        return
    folder = state_folder() / NOTES
    now = clock.now()
    try:
        make_own(folder)
        number = max([int(now * 1e9), *(turn_of(name) + 1 for name in os.listdir(folder))])
        name = f"{number}-{uuid.uuid4().hex[:8]}"
        lines = [
            msgspec.json.encode(Event(what, now, facts | {SEAL: seal_of(id_of(name, place), what, now, facts)}))
            for place, (what, facts) in enumerate(items)
        ]
        safe.write_file(folder / f"{name}.jsonl", b"\n".join([*lines, b""]), mode=0o600)
        hand_over(folder)
    except OSError as error:
        raise DuneChestError(
            f"The ledger in {shown(str(folder))} cannot be written: {error.strerror}. The job itself is done."
        ) from error


def id_of(note: str, place: int) -> str:
    """Return the id of an event: the name of its note, and its place in it."""
    return f"{note.removesuffix('.jsonl')}-{place:04d}"


def seal_of(own: str, what: str, moment: float, facts: Mapping[str, Any]) -> str:
    """Return the digest that tells whether an event is as it was noted: its id, sort and moment are covered, too."""
    told = repr((own, what, moment, sorted(item for item in facts.items() if item[0] != SEAL)))
    return hashlib.blake2b(told.encode("utf-8", "surrogatepass"), digest_size=8).hexdigest()


def is_whole(own: str, what: str, moment: float, facts: Mapping[str, Any]) -> bool:
    """Whether an event is as it was noted; one of an earlier version, which has no digest, is believed."""
    return SEAL not in facts or facts[SEAL] == seal_of(own, what, moment, facts)


def turn_of(name: str) -> int:
    """Return the number that says when a note had its turn: it is the moment, but never before the notes that were there.

    A clock that was ahead for one night would otherwise have the last word for as long as its note waits.
    """
    head = name.partition("-")[0]
    return int(head) if head.isascii() and head.isdigit() else 0


@contextmanager
def unnoted() -> Iterator[None]:
    """Note nothing while the block runs: what happens in it is only a step of something that is noted by itself."""
    before = _unnoted.set(True)
    try:
        yield
    finally:
        _unnoted.reset(before)


def unnoted_now() -> bool:
    """Whether nothing is to be noted now."""
    return _unnoted.get()


def try_append(*items: tuple[str, dict[str, Any]]) -> str:
    """Write events where the job is done whether that succeeds or not; return why it did not, or nothing.

    Parameters
    ----------
    *items : pair of str and dict
        Sort and facts of each event.
    """
    try:
        append_many(list(items))
    except DuneChestError as error:
        lost(str(error))
        return str(error)
    return ""


def lost(why: str) -> None:
    """Note that this computer could not write down what was done, for whoever tells a person so."""
    _lost.append(why)


def lost_so_far() -> list[str]:
    """Return why things could not be written down, each reason once, and go on remembering that."""
    return list(dict.fromkeys(_lost))


def take_lost() -> list[str]:
    """Return why things could not be written down since this was last asked, each reason once."""
    found = list(dict.fromkeys(_lost))
    _lost.clear()
    return found
