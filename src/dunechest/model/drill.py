"""What a drill found."""

from __future__ import annotations

from typing import ClassVar

import msgspec

from dunechest.model.restore import RestoreResult
from dunechest.values import Value


class Drill(Value, msgspec.Struct, frozen=True):
    """The outcome of a drill of one library; `why_not` says why it could not be tried, without a result then.

    `closed` says that this user may not read some of it: that is no failed drill.
    """

    _shown: ClassVar[tuple[str, ...]] = ("name", "passed")
    _told: ClassVar[tuple[str, ...]] = ("name", "passed", "why_not", "result")

    name: str
    result: RestoreResult | None
    why_not: str = ""
    closed: bool = False

    @property
    def passed(self) -> bool:
        """Whether a real restore would have brought everything back, well."""
        return self.result is not None and self.result.ok
