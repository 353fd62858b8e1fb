"""The one tree of errors. Each says what happened, to what, and what can be done next.

::

    DuneChestError
      UsageError (ValueError)         a name, path or option that means nothing here
        KindFileError                 a kind file that cannot be understood
      RefusedError                    refused before anything was changed
        ChestUnusableError            a chest whose own records are torn, foreign or too new
        ChestBusyError                another process is changing the chest
        ChangedMeanwhileError         the archive was changed while it was read
      BagUnusableError (ValueError)   a folder that is not a bag
      RecordDamagedError              a record of a chest that no digest proves
      PackageMissingError (ImportError)  a library that is not installed is needed
      OfficeError                     an office's ledger that is none, or does not take what it is told
      CutOffError (OSError)           the system stopped the job
        LeaseLostError                the hold on a chest on a network share ran out
        NotConnectedError             a known chest whose drive is not connected
        ServerError                   the server that a chest is on does not do what it is asked for
        OfficeUnreachableError        the server of an office's ledger does not answer, or not to this computer

`status` is the exit status the command line ends with: 1 finished, with problems; 2 mistake in the command line;
3 refused, nothing changed; 4 interrupted by the system.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from msgspec.structs import replace

from dunechest.findings import Finding
from dunechest.names import shown


class DuneChestError(Exception):
    """Root of every error this library raises on purpose.

    Parameters
    ----------
    message : str
        What happened, and what can be done.
    about : str
        What it concerns: a name, a label or a path; empty if the message says it all.
    """

    status: int = 1
    #: A stable name of the error, as JSON documents have it.
    code: str = "error"
    #: Whether the message deliberately has several lines, each already made safe to show.
    lines: bool = False

    def __init__(self, message: str = "", *, about: str = "") -> None:
        super().__init__(message)
        self.message = message
        self.about = about


class UsageError(DuneChestError, ValueError):
    """A name, path or option that is not valid: an unknown chest, library or kind."""

    code = "usage"
    status = 2


class KindFileError(UsageError):
    """A kind file that cannot be understood; the message names the file and each mistake with its line.

    Attributes
    ----------
    mistakes : tuple of str
        The mistakes alone.
    """

    code = "kind-file"
    lines = True

    def __init__(self, message: str, mistakes: Iterable[object] = (), *, about: str = "") -> None:
        super().__init__(message, about=about)
        self.mistakes = tuple(str(mistake) for mistake in mistakes)


class RefusedError(DuneChestError):
    """The job was refused before anything was changed.

    Attributes
    ----------
    findings : tuple of Finding
        The blocking findings that are the reason; empty if the message says it all.
    """

    code = "refused"
    status = 3

    def __init__(self, message: str, findings: Iterable[Finding] = (), *, about: str = "") -> None:
        super().__init__(message, about=about)
        self.findings = tuple(findings)

    def __str__(self) -> str:
        """Return the message with the reasons: in a traceback the message alone would not say why."""
        return " ".join([self.message, *(finding.message for finding in self.findings)])


class ChestUnusableError(RefusedError):
    """A chest whose own records are damaged, foreign, or of a newer format. It is left untouched."""

    code = "chest-unusable"


class ChestBusyError(RefusedError):
    """Another process is changing the chest."""

    code = "chest-busy"


class ChangedMeanwhileError(RefusedError):
    """The archive was changed by another process while it was read. Nothing was changed; planning again helps."""

    code = "changed-meanwhile"


class PackageMissingError(DuneChestError, ImportError):
    """A package that is not installed is needed."""

    code = "package-missing"


class BagUnusableError(DuneChestError, ValueError):
    """A folder that is not a bag, or whose declaration cannot be read (RFC 8493, section 2.1.1)."""

    code = "not-a-bag"


class RecordDamagedError(DuneChestError):
    """A record of a chest that does not match its digests, so that it is not believed.

    Attributes
    ----------
    bag, path : str
        Name of the bag, and the record's path in it.
    state : str
        ``changed``, ``missing`` or ``unreadable``.
    why : str
        The reason, as part of a sentence.
    """

    code = "record-damaged"

    def __init__(self, message: str, *, bag: str, path: str, state: str, why: str) -> None:
        super().__init__(message, about=f"{bag}/{path}")
        self.bag = bag
        self.path = path
        self.state = state
        self.why = why


class OfficeError(DuneChestError):
    """The ledger of an office is none, is in the form of another version, or does not take what it is told."""

    code = "office"


class CutOffError(DuneChestError, OSError):
    """The system stopped the job: the drive is gone, full or unreadable.

    What was safe before is still safe, and the same command continues.
    """

    code = "interrupted-by-system"
    status = 4


class LeaseLostError(CutOffError):
    """The hold on a chest on a network share ran out, and another computer may have it. Nothing more was changed."""

    code = "lease-lost"


class NotConnectedError(CutOffError):
    """A chest that this computer knows and whose drive is not connected. Nothing was done."""

    code = "not-connected"


class ServerError(CutOffError):
    """The server that a chest is on does not answer, does not prove who it is, or does not do what it is asked for.

    Parameters
    ----------
    number : int
        Number of the system's error that is most like it.
    why : str
        What it does not do, as part of a sentence.
    """

    code = "server"

    def __init__(self, number: int, why: str) -> None:
        super().__init__(why)
        self.errno = number
        self.strerror = why


class OfficeUnreachableError(CutOffError):
    """The server of an office's ledger does not answer, does not prove who it is, or does not let this computer in.

    What happened is written down on this computer, and sent when the server can be reached.
    """

    code = "office-unreachable"


def no_home() -> UsageError:
    """Return the error for a person whose home folder the system does not know."""
    return UsageError(
        "The system does not know your home folder. Set the environment variable HOME to it, and try again."
    )


def refuse_blocked(message: str, blocked: Mapping[str, Iterable[Finding]]) -> None:
    """Raise `RefusedError` if anything blocks, with a message that says which libraries are blocked.

    Parameters
    ----------
    message : str
        With ``{}`` where their names belong.
    blocked : mapping of str to findings
        All libraries, and the findings that block each.
    """
    reasons = {name: tuple(findings) for name, findings in blocked.items()}
    names = [shown(name) for name, findings in reasons.items() if findings]
    if not names:
        return
    several = len(reasons) > 1
    findings = [
        replace(finding, message=f"{shown(name)}: {finding.message}") if several else finding
        for name, found in reasons.items()
        for finding in found
    ]
    raise RefusedError(message.format(", ".join(names)), findings, about=", ".join(names))
