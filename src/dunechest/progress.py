"""The one way a running job tells how far it is."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Protocol


@dataclass(frozen=True, slots=True)
class Step:
    """How far a job is.

    Parameters
    ----------
    stage : str
        What is being done, in words a person reads: ``copying``, ``verifying``.
    files_done, files_total : int
        Files.
    bytes_done, bytes_total : int
        Bytes; both 0 where only files are counted.
    subject : str
        The library or bag it concerns.
    """

    stage: str
    files_done: int
    files_total: int
    bytes_done: int
    bytes_total: int
    subject: str = ""


class Progress(Protocol):
    """Anything that can be called with a `Step`; it is called often and must be quick."""

    def __call__(self, step: Step, /) -> None:
        """Take note of `step`."""


def silent(step: Step, /) -> None:
    """Report nothing."""
