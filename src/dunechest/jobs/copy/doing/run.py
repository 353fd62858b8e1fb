"""State of a running copy, and where its files lie meanwhile."""

from __future__ import annotations

from pathlib import Path

import msgspec

from dunechest.chest.layout import DATA, PAYLOAD, PENDING_TAGS
from dunechest.model.copy import CopyPlan
from dunechest.names import shown
from dunechest.words import number


class Run(msgspec.Struct):
    """What gathers while a plan is carried out.

    `brought` are the paths in the bag of what is on the target's drive and proven, `missing` those that are intact
    nowhere, with the reason.
    """

    plan: CopyPlan
    bag: Path
    brought: set[str] = msgspec.field(default_factory=set)
    missing: dict[str, str] = msgspec.field(default_factory=dict)
    elsewhere: list[tuple[str, str]] = msgspec.field(default_factory=list)
    resumed: int = 0

    def pending(self, path: str) -> str:
        """Return where in the bag a path of it lies before the change is decided."""
        return pending(path)


def pending(path: str) -> str:
    """Return where in a bag a path of it lies before a change is decided."""
    return f"{PAYLOAD}/{path[len(DATA) :]}" if path.startswith(DATA) else f"{PENDING_TAGS}/{path}"


def cut_off_words(run: Run, why: str) -> str:
    """Say that a copy was interrupted, and what is safe."""
    plan = run.plan
    return (
        f"Copying {shown(plan.name)} from {shown(plan.source.label)} to {shown(plan.target.label)} was interrupted: {why}. "
        f"What was in {shown(plan.target.label)} before is untouched; copied already: {number(len(run.brought), 'file')}. "
        "Run the same command again to continue."
    )
