"""The envelope: what every document has, whatever the command and however it ended."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, ClassVar, Literal

from dunechest.documents.base import Document, Moment


class ChestName(Document):
    """A chest: its id, its label, and its folder on this computer."""

    id: str
    label: str
    folder: str


class FindingData(Document):
    """What a finding concerns, and whether ``--ignore`` overrules it."""

    can_be_ignored: bool
    library: str | None = None

    _sources: ClassVar[Mapping[str, str]] = {"can_be_ignored": "yields"}


class Finding(Document):
    """A blocking problem, a warning or information: what was found, and what to do."""

    code: str
    severity: Literal["blocks", "warning", "info"]
    message: str
    action: str
    data: FindingData

    _sources: ClassVar[Mapping[str, str]] = {"data": ""}


class Error(Document):
    """Why a command did not do what was asked: a stable code, what happened, and what to do."""

    code: str
    message: str
    hint: str = ""


class Envelope(Document):
    """What every document has.

    `ok` says whether the exit status is 0; `libraries` has an item for each library that was worked on, also where the command
    ended early; `problems` are lines that say what is wrong.
    """

    schema: str
    version: str
    command: str
    exit_status: int
    ok: bool
    started_at: Moment
    seconds: float
    chest: ChestName | None
    libraries: list[Any]
    findings: list[Finding]
    problems: list[str]
    error: Error | None
