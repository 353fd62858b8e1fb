"""What a person chose of a library, and what is not taken of it: values that cost nothing to have at hand."""

from __future__ import annotations

from typing import ClassVar

import msgspec

from dunechest.values import Value


class Choice(msgspec.Struct, frozen=True):
    """What a person chose.

    Parameters
    ----------
    parts : tuple of str
        Only these parts; everything if empty.
    rebuildable : bool or None
        Whether rebuildable files are taken; None takes them if they are small beside the rest.
    outside_files : bool
        Whether files outside that the library refers to are gathered.
    placeholders : bool
        Whether placeholders are read all the same.
    """

    parts: tuple[str, ...] = ()
    rebuildable: bool | None = None
    outside_files: bool = True
    placeholders: bool = False


#: The choice of whoever chose nothing.
EVERYTHING = Choice()


class LeftOutFile(Value, msgspec.Struct, frozen=True):
    """A file that is not copied: path in the library, bytes, why, and whether that is a fault.

    A socket is left out as it must be; a file that could not be read is a fault.
    """

    _shown: ClassVar[tuple[str, ...]] = ("path", "why")
    _told: ClassVar[tuple[str, ...]] = ("path", "size_bytes", "why", "fault")

    path: str
    size_bytes: int
    why: str
    fault: bool
    mtime_ns: int = 0
