"""What a person chose for freeing the space of an original, as one value."""

from __future__ import annotations

import os

import msgspec

from dunechest.errors import UsageError
from dunechest.names import meant, shown

#: Codes of the blocking findings that `--ignore` overrules.
YIELDING_CODES = frozenset({"linked-from", "referred-to", "in-memory", "mass-change"})


class ReclaimOptions(msgspec.Struct, frozen=True):
    """What a person chose.

    Parameters
    ----------
    parts : tuple of str
        Only these parts; the whole library if empty.
    trash : bool
        Move it to the system's trash instead of deleting it.
    outside_files : bool
        Delete files stored elsewhere that the library uses, too, where they are archived.
    also : tuple of str
        Paths or patterns of files that would stay (left out of the archive, licensed, placeholders) and are deleted, too.
    scratch : str or None
        A folder for a drill, if one is needed.
    ignore : tuple of str
        Codes of blocking findings that are overruled, as far as they yield.

    Raises
    ------
    UsageError
        If a code is not one of `YIELDING_CODES`: a mistyped one must not look as if it had been heeded.
    """

    parts: tuple[str, ...] = ()
    trash: bool = False
    outside_files: bool = False
    also: tuple[str, ...] = ()
    scratch: str | None = None
    ignore: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        for name in ("parts", "also", "ignore"):
            given = getattr(self, name)
            msgspec.structs.force_setattr(self, name, (given,) if isinstance(given, str) else tuple(given))
        if self.scratch is not None:
            msgspec.structs.force_setattr(self, "scratch", os.fspath(self.scratch))
        for code in self.ignore:
            if code not in YIELDING_CODES:
                known, hint = ", ".join(sorted(YIELDING_CODES)), meant(code, YIELDING_CODES)
                raise UsageError(f"--ignore {shown(code)}: that cannot be overruled.{hint} Codes: {known}.")


#: The options of whoever chose nothing.
USUAL = ReclaimOptions()
