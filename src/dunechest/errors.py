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


class CutOff(DuneChestError):
    """The system stopped the job: the drive is gone, full or unreadable.

    What was safe before is still safe, and the same command goes on from there.
    """

    status = 4
