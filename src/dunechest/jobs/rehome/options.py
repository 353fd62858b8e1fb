"""What a person chose for a move, as one value."""

from __future__ import annotations

from typing import Literal

import msgspec

from dunechest.jobs.restore.options import OnConflict, today

#: How an application finds its library after a move.
Way = Literal["setting", "link"]


class RehomeOptions(msgspec.Struct, frozen=True):
    """What a person chose for a move to a drive.

    Parameters
    ----------
    name : str, optional
        Name of the library's folder on the drive; the one it has by default.
    link : bool
        Leave a link in the old place even if the application has a setting.
    outside_files : bool
        Move files stored elsewhere that the library uses to the drive, too.
    parts : tuple of str
        Only these parts; the whole library if empty.
    on_conflict : {"keep-both", "keep-mine", "keep-archived", "keep-newer"}
        When rejoining, which of two different files of the same name to keep; ``mine`` is the one on the drive.
    ignore : tuple of str
        Codes of blocking findings that are overruled.
    day : str
        The day that names what is set aside; today by default.
    """

    name: str | None = None
    link: bool = False
    outside_files: bool = False
    parts: tuple[str, ...] = ()
    on_conflict: OnConflict = "keep-both"
    ignore: tuple[str, ...] = ()
    day: str = ""

    def __post_init__(self) -> None:
        msgspec.structs.force_setattr(
            self, "parts", (self.parts,) if isinstance(self.parts, str) else tuple(self.parts)
        )
        msgspec.structs.force_setattr(
            self, "ignore", (self.ignore,) if isinstance(self.ignore, str) else tuple(self.ignore)
        )
        msgspec.structs.force_setattr(self, "day", self.day or today())


#: The options of whoever chose nothing.
USUAL = RehomeOptions()
