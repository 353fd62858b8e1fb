"""The one way a running job tells how far it is."""

from __future__ import annotations

from typing import Literal, Protocol

import msgspec

#: What a running job can be at.
Stage = Literal[
    "cataloguing",
    "checking",
    "checking-result",
    "comparing",
    "copying",
    "copying-database",
    "deleting",
    "deleting-scratch",
    "finding",
    "finishing",
    "listing",
    "mending",
    "moving",
    "placing",
    "reading",
    "reading-copies",
    "reading-original",
    "reading-records",
    "repairing",
    "restoring",
    "sending-list",
    "updating-references",
    "verifying",
]


class Step(msgspec.Struct, frozen=True):
    """How far a job is.

    Parameters
    ----------
    stage : str
        What is being done, one of `Stage`: ``copying``, ``verifying``.
    done_count, total_count : int
        Files.
    done_bytes, total_bytes : int
        Bytes; both 0 where only files are counted.
    about : str
        The library or bag it concerns.
    """

    stage: Stage
    done_count: int
    total_count: int
    done_bytes: int
    total_bytes: int
    about: str = ""


class Progress(Protocol):
    """Anything that can be called with a `Step`; it is called often and must be quick."""

    def __call__(self, step: Step, /) -> None:
        """Take note of `step`."""


class Tally:
    """Counts the bytes and files of one stage of a job, and tells how far it is.

    It is called with numbers of bytes as they are read, and `files_done` is set by whoever counts the files.

    Parameters
    ----------
    progress : Progress
        Who is told.
    stage : str
        What is being done, one of `Stage`.
    files, total : int
        Files and bytes in all.
    subject : str
        The library or bag it concerns.
    bytes_done : int
        Bytes that were done before.
    """

    def __init__(
        self, progress: Progress, stage: Stage, files: int, total: int, subject: str = "", *, bytes_done: int = 0
    ) -> None:
        self._progress = progress
        self._stage = stage
        self._files = files
        self._total = total
        self._subject = subject
        self._bytes_done = bytes_done
        self.files_done = 0

    def __call__(self, count: int) -> None:
        """Count bytes."""
        self._bytes_done += count
        self.tell()

    def tell(self) -> None:
        """Tell how far it is."""
        done = min(self._bytes_done, self._total)
        self._progress(Step(self._stage, self.files_done, self._files, done, self._total, self._subject))


def silent(step: Step, /) -> None:
    """Report nothing."""
