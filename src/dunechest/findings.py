"""Findings: what a look at a library, a drive or a plan has to say.

A finding is a plain value with a stable code, so that a person can answer it on
the command line (``--ignore CODE``) and a program can test for it.
"""

from __future__ import annotations

from collections.abc import Iterable
from typing import ClassVar, Literal

import msgspec

Severity = Literal["blocks", "warning", "info"]

_ORDER: dict[str, int] = {"blocks": 0, "warning": 1, "info": 2}


class FindingData(msgspec.Struct, frozen=True):
    """What a finding concerns, and whether ``--ignore`` overrules it."""

    _maybe: ClassVar[tuple[str, ...]] = ("library",)

    can_be_ignored: bool
    library: str | None = None


class Finding(msgspec.Struct, frozen=True):
    """One result of looking at readiness.

    Parameters
    ----------
    code : str
        Stable short name, such as ``in-use`` or ``no-room``.
    severity : {"blocks", "warning", "info"}
        One that *blocks* refuses the job; a *warning* and *info* are shown with it.
    message : str
        One sentence: what was found.
    action : str
        One sentence: what the person can do about it.
    can_be_ignored : bool
        Whether ``--ignore CODE`` may overrule it. A lack of room does not yield.
    """

    _told: ClassVar[tuple[str, ...]] = ("code", "severity", "message", "action", "data")

    code: str
    severity: Severity
    message: str
    action: str
    can_be_ignored: bool = False

    @property
    def data(self) -> FindingData:
        """What it concerns."""
        return FindingData(self.can_be_ignored)


def most_serious_first(findings: Iterable[Finding]) -> tuple[Finding, ...]:
    """Sort findings: those that block, then warnings, then information, each in the order given."""
    return tuple(sorted(findings, key=lambda f: _ORDER[f.severity]))


def blocking(findings: Iterable[Finding], ignore: Iterable[str] = ()) -> tuple[Finding, ...]:
    """Return the findings that still block when the codes in `ignore` are overruled.

    >>> a = Finding("in-use", "blocks", "It is open.", "Close it.", can_be_ignored=True)
    >>> b = Finding("no-room", "blocks", "Too little room.", "Use another drive.")
    >>> [f.code for f in blocking([a, b], ignore=["in-use", "no-room"])]
    ['no-room']
    """
    codes = set(ignore)
    return tuple(f for f in findings if f.severity == "blocks" and not (f.can_be_ignored and f.code in codes))
