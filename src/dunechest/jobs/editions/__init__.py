"""The editions of an archived library: list them, and drop some by a rule.

`plan_drop` decides, `carry_out` does, `drop_editions` is both in one call.
"""

from __future__ import annotations

from collections.abc import Iterable

from dunechest.chest.chest import Chest
from dunechest.jobs.editions.doing import carry_out
from dunechest.jobs.editions.listing import list_editions
from dunechest.jobs.editions.planning import plan_drop
from dunechest.jobs.known.named import get_chest
from dunechest.model.editions import Change, DropPlan, DropResult, Edition, EditionList
from dunechest.names import AnyPath

__all__ = [
    "Change",
    "DropPlan",
    "DropResult",
    "Edition",
    "EditionList",
    "carry_out",
    "drop_editions",
    "list_editions",
    "plan_drop",
]


def drop_editions(chest: Chest | AnyPath, library: str, rule: str, *, protected: Iterable[int] = ()) -> DropResult:
    """Drop the editions of a library that a rule does not keep; parameters as for `plan_drop`.

    Raises
    ------
    RefusedError
        If the library's records are damaged, or an archive of it was interrupted.
    CutOffError
        If the drive is full, gone or failing; nothing is lost.
    """
    return carry_out(plan_drop(get_chest(chest), library, rule, protected=protected))
