"""What an office knows, and what was done about it."""

from __future__ import annotations

from typing import TYPE_CHECKING, ClassVar

import msgspec

from dunechest.values import Value

if TYPE_CHECKING:
    pass


class OfficeMade(Value, msgspec.Struct, frozen=True):
    """An office's ledger: where it is, and whether there was anything to make or to bring up to date."""

    _shown: ClassVar[tuple[str, ...]] = ("where", "changed")

    where: str
    changed: bool


class ComputerAdded(Value, msgspec.Struct, frozen=True):
    """A computer that an office lets in: its name, and the address that it joins with. The password is not in it."""

    _shown: ClassVar[tuple[str, ...]] = ("name", "address")

    name: str
    role: str
    address: str


class OfficeComputer(Value, msgspec.Struct, frozen=True):
    """A computer of an office. Times are seconds since 1970.

    `added_at` is when it was let in, `heard_at` when it last told something, None if it never did; `removed_at` when it was
    shut out, None if it was not. `this_computer` says whether it is this computer; `library_count` counts those that it has,
    `chest_count` those that it was the last to see.
    """

    _shown: ClassVar[tuple[str, ...]] = ("name", "heard_at")

    name: str
    this_computer: bool
    added_at: float
    heard_at: float | None
    removed_at: float | None
    library_count: int
    chest_count: int


class Office(Value, msgspec.Struct, frozen=True):
    """An office as this computer sees it.

    Parameters
    ----------
    where : str
        The database and its server.
    seen_at : float
        When it was asked (seconds since 1970).
    why : str
        Why it cannot be asked now; empty if it was.
    sent_at : float or None
        When this computer last told it all that was new.
    computers : tuple of OfficeComputer
        By name.
    """

    _shown: ClassVar[tuple[str, ...]] = ("where", "computers")
    _rows: ClassVar[str] = "computers"

    where: str
    seen_at: float
    why: str
    sent_at: float | None
    computers: tuple[OfficeComputer, ...]


class Sent(Value, msgspec.Struct, frozen=True):
    """What was sent to the office: events, and lists of files."""

    _shown: ClassVar[tuple[str, ...]] = ("event_count", "list_count")

    event_count: int
    list_count: int


class Joined(Value, msgspec.Struct, frozen=True):
    """An office that this computer joined: what was sent to it, and how many events of its own came back from there."""

    _shown: ClassVar[tuple[str, ...]] = ("where", "event_count", "list_count")

    where: str
    event_count: int
    list_count: int
    brought_back_count: int


class Left(Value, msgspec.Struct, frozen=True):
    """An office that this computer left: whether all it had noted was sent before, and if not, why."""

    _shown: ClassVar[tuple[str, ...]] = ("where", "sent")

    where: str
    sent: bool
    why: str
    brought_back_count: int
