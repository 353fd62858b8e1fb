"""Findings: what a look at a library, a drive or a plan has to say.

A finding is a plain value with a stable code, so that a person can answer it on
the command line (``--ignore CODE``) and a program can test for it.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import Literal

Weight = Literal["stop", "warn", "note"]

_ORDER: dict[str, int] = {"stop": 0, "warn": 1, "note": 2}


@dataclass(frozen=True, slots=True)
class Finding:
    """One result of looking at readiness.

    Parameters
    ----------
    code : str
        Stable short name, such as ``in-use`` or ``no-room``.
    weight : {"stop", "warn", "note"}
        A *stop* refuses the job, a *warn* is shown before it, a *note* informs.
    what : str
        One sentence: what was found.
    do : str
        One sentence: what the person can do about it.
    yields : bool
        Whether ``--ignore CODE`` may overrule it. A lack of room does not yield.
    """

    code: str
    weight: Weight
    what: str
    do: str
    yields: bool = False


def weightiest_first(findings: Iterable[Finding]) -> tuple[Finding, ...]:
    """Sort findings: stops, then warnings, then notes, each in the order given."""
    return tuple(sorted(findings, key=lambda f: _ORDER[f.weight]))


def stops(findings: Iterable[Finding], despite: Iterable[str] = ()) -> tuple[Finding, ...]:
    """Return the *stop* findings that remain when the codes in `despite` are overruled.

    >>> a = Finding("in-use", "stop", "It is open.", "Close it.", yields=True)
    >>> b = Finding("no-room", "stop", "Too little room.", "Use another drive.")
    >>> [f.code for f in stops([a, b], despite=["in-use", "no-room"])]
    ['no-room']
    """
    codes = set(despite)
    return tuple(f for f in findings if f.weight == "stop" and not (f.yields and f.code in codes))
