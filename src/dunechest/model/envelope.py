"""The envelope: what every document has, whatever the command and however it ended."""

from __future__ import annotations

from typing import Any

import msgspec

from dunechest.chest.chest import Chest
from dunechest.findings import Finding
from dunechest.values import Value


class Failure(Value, msgspec.Struct, frozen=True):
    """Why a command did not do what was asked: a stable code, what happened, and what to do."""

    code: str
    message: str
    hint: str = ""


class Envelope(Value, msgspec.Struct, frozen=True):
    """What every document has.

    `ok` says whether the exit status is 0; `libraries` has an item for each library that was worked on, also where the
    command ended early; `problems` are lines that say what is wrong.
    """

    schema: str
    version: str
    command: str
    exit_status: int
    ok: bool
    started_at: str
    seconds: float
    chest: Chest | None
    libraries: tuple[Any, ...]
    findings: tuple[Finding, ...]
    problems: tuple[str, ...]
    error: Failure | None
