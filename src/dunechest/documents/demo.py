"""Documents of ``demo``."""

from __future__ import annotations

from typing import Any

from dunechest.documents.base import Document


class DemoStep(Document):
    """One step of the tour: the command, the status it ended with, and its own document or text."""

    about: str
    computer: str
    command: list[str]
    status: int
    as_expected: bool
    output: Any
    seconds: float


class Demo(Document):
    """The tour on sample data."""

    folder: str
    steps: list[DemoStep]
