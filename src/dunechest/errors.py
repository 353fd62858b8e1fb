"""The one tree of errors. Each says what happened, to what, and what can be done next.

`status` is the exit status the command line ends with:
1 something is not as it should be, 2 the words are off, 3 refused and nothing
changed, 4 cut off by the system.
"""

from __future__ import annotations

from collections.abc import Iterable

from dunechest.findings import Finding


class DuneChestError(Exception):
    """Root of every error this library raises on purpose."""

    status: int = 1
    #: Whether the message deliberately has several lines, each already made safe to show.
    lines: bool = False


class WordsOff(DuneChestError):
    """A name, path or option that means nothing here: an unknown chest, library or kind."""

    status = 2


class KindFileError(WordsOff):
    """A kind file that cannot be understood; the message names the file and each mistake with its line.

    Attributes
    ----------
    mistakes : tuple of str
        The mistakes alone.
    """

    lines = True

    def __init__(self, message: str, mistakes: Iterable[object] = ()) -> None:
        super().__init__(message)
        self.mistakes = tuple(str(mistake) for mistake in mistakes)


class Refused(DuneChestError):
    """The job was refused before anything was changed.

    Attributes
    ----------
    findings : tuple of Finding
        The *stop* findings that are the reason; empty if the message says it all.
    """

    status = 3

    def __init__(self, message: str, findings: Iterable[Finding] = ()) -> None:
        super().__init__(message)
        self.findings = tuple(findings)


class ChestUnusable(Refused):
    """A chest whose own records are torn, foreign, or of a newer format. It is left untouched."""


class ChestBusy(Refused):
    """Another process is changing the chest."""


class BagUnusable(DuneChestError):
    """A folder that is not a bag, or whose declaration cannot be read (RFC 8493, section 2.1.1)."""


class RecordDamaged(DuneChestError):
    """A record of a chest that no digest proves, so that nothing it says is believed.

    Attributes
    ----------
    bag, path : str
        Name of the bag, and the record's path in it.
    state : str
        ``changed``, ``missing`` or ``unreadable``.
    why : str
        The reason, as part of a sentence.
    """

    def __init__(self, message: str, *, bag: str, path: str, state: str, why: str) -> None:
        super().__init__(message)
        self.bag = bag
        self.path = path
        self.state = state
        self.why = why


class CutOff(DuneChestError):
    """The system stopped the job: the drive is gone, full or unreadable.

    What was safe before is still safe, and the same command goes on from there.
    """

    status = 4


class NotConnected(CutOff):
    """A chest that this machine knows and whose drive is not connected. Nothing was done."""


class Meanwhile(Refused):
    """The archive was changed by another process while it was read. Nothing was changed; planning again helps."""
