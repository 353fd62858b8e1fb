"""Documents of ``office``."""

from __future__ import annotations

from collections.abc import Mapping
from typing import ClassVar

from dunechest.documents.base import Count, Document, Moment


class OfficeSeen(Document):
    """The office that was asked: where, when, and why it cannot be asked now; `computer` is empty for all of them."""

    where: str
    seen_at: Moment
    why: str
    computer: str
    computer_count: Count

    _sources: ClassVar[Mapping[str, str]] = {"seen_at": "seen", "computer_count": "computers"}


class Computer(Document):
    """A computer of an office: how many libraries it has, and how many chests it was the last to see."""

    name: str
    this_computer: bool
    added_at: Moment
    heard_at: Moment | None
    removed_at: Moment | None
    library_count: Count
    chest_count: Count

    _sources: ClassVar[Mapping[str, str]] = {
        "this_computer": "here",
        "added_at": "added",
        "heard_at": "heard",
        "removed_at": "removed",
        "library_count": "libraries",
        "chest_count": "chests",
    }


class Office(Document):
    """An office: where its ledger is, when it was asked, and its computers.

    `why` says why it cannot be asked now; empty if it was. `sent_at` is when this computer last told it all that was new.
    """

    where: str
    seen_at: Moment
    why: str
    sent_at: Moment | None
    computers: list[Computer]

    _sources: ClassVar[Mapping[str, str]] = {"seen_at": "seen", "sent_at": "sent"}


class OfficeMade(Document):
    """An office's ledger that was made or brought up to date; `changed` is false if there was nothing to do."""

    where: str
    changed: bool


class ComputerAdded(Document):
    """A computer that was let in: the address that it joins with. No document ever holds a password."""

    name: str
    role: str
    address: str


class ComputerRemoved(Document):
    """A computer that was shut out."""

    name: str


class Joined(Document):
    """An office that was joined, and what was sent to it."""

    where: str
    event_count: Count
    list_count: Count
    brought_back_count: Count

    _sources: ClassVar[Mapping[str, str]] = {
        "event_count": "events",
        "list_count": "lists",
        "brought_back_count": "brought_back",
    }


class Left(Document):
    """An office that was left; `why` says why not everything could be sent before."""

    where: str
    sent: bool
    why: str
    brought_back_count: Count

    _sources: ClassVar[Mapping[str, str]] = {"brought_back_count": "brought_back"}


class Sent(Document):
    """What was sent to the office."""

    event_count: Count
    list_count: Count

    _sources: ClassVar[Mapping[str, str]] = {"event_count": "events", "list_count": "lists"}
