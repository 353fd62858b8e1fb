"""What is particular to the program that a job runs in, given by who starts it and handed down."""

from __future__ import annotations

import contextlib
from collections.abc import Iterator, Mapping

import msgspec


class Computer(msgspec.Struct, frozen=True):
    """The surroundings of a job.

    `words` are what an interface says a person can do about a finding, by the keys of the catalogue of findings, where it
    has words of its own for it: a command line names its commands and options.
    """

    words: Mapping[str, str] = {}


#: Those of whoever gave none.
_USUAL = Computer()
_current = [_USUAL]


def here() -> Computer:
    """Return the surroundings that jobs run in now."""
    return _current[-1]


@contextlib.contextmanager
def using(computer: Computer) -> Iterator[None]:
    """Have jobs run in these surroundings."""
    _current.append(computer)
    try:
        yield
    finally:
        _current.pop()
