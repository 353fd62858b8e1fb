"""What a person chose for an archive, as one checked value."""

from __future__ import annotations

import msgspec

from dunechest.errors import UsageError
from dunechest.jobs.study.choice import EVERYTHING, Choice
from dunechest.names import is_slug, meant, shown

#: Codes of the blocking findings an archive can meet.
BLOCKING_CODES = frozenset(
    {
        "in-use",
        "half-library",
        "placeholders",
        "read-only",
        "mass-change",
        "name-taken",
        "perhaps-same",
        "newer-state",
        "not-in-chest",
        "forget-absent",
        "chest-inside",
        "inside-chest",
        "no-room",
        "file-too-large",
        "damaged-archive",
        "chest-damaged",
    }
)


#: Those that stay until a person decides something or changes something: the same command would be refused again.
LASTING_CODES = frozenset(
    {"half-library", "placeholders", "mass-change", "name-taken", "perhaps-same", "newer-state", "not-in-chest"}
)
#: Those that may be over tomorrow.
PASSING_CODES = frozenset({"no-room", "file-too-large", "read-only"})


class ArchiveOptions(msgspec.Struct, frozen=True):
    """What a person chose for an archive.

    Parameters
    ----------
    name : str, optional
        Another name for the bag of a single library.
    choice : Choice
        Which parts and which files.
    read_all : bool
        Distrust sizes and times: read every file, and compare its bytes with those archived.
    ignore : tuple of str
        Codes of blocking findings to overrule, as far as they yield.
    continues : str, optional
        Name of the bag in the chest that the single library is, from another computer or place.
    forget_absent : tuple of str
        Paths, folders or patterns of files that cannot be seen now and are really gone: they are not kept any longer.

    Raises
    ------
    UsageError
        If `name` cannot be a bag's name, `name` and `continues` are both given, or a code is not one of `BLOCKING_CODES`: a
        mistyped one must not look as if it had been heeded.
    """

    name: str | None = None
    choice: Choice = EVERYTHING
    read_all: bool = False
    ignore: tuple[str, ...] = ()
    continues: str | None = None
    forget_absent: tuple[str, ...] = ()

    def __post_init__(self) -> None:
        msgspec.structs.force_setattr(
            self, "ignore", (self.ignore,) if isinstance(self.ignore, str) else tuple(self.ignore)
        )
        msgspec.structs.force_setattr(
            self,
            "forget_absent",
            (self.forget_absent,) if isinstance(self.forget_absent, str) else tuple(self.forget_absent),
        )
        if self.name is not None and not is_slug(self.name):
            raise UsageError(
                f"{shown(self.name)!r} cannot be a library's name in a chest: use small letters, digits and hyphens."
            )
        if self.name is not None and self.continues is not None:
            raise UsageError(
                "--as and --continue exclude each other: choose a new name, or a library that is already in the chest."
            )
        for code in self.ignore:
            if code not in BLOCKING_CODES:
                known = ", ".join(sorted(BLOCKING_CODES))
                hint = meant(code, BLOCKING_CODES)
                raise UsageError(f"--ignore {shown(code)}: there is no such finding.{hint} Codes: {known}.")


#: The options of whoever chose nothing.
USUAL = ArchiveOptions()
