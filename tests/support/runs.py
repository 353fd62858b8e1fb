"""The command line, run in the test's own process."""

from __future__ import annotations

import json
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any


@dataclass(frozen=True)
class Ran:
    status: int
    out: str
    err: str

    @property
    def json(self) -> Any:
        return json.loads(self.out)


Command = Callable[..., Ran]
