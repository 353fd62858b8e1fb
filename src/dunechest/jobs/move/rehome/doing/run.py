"""State of a running move."""

from __future__ import annotations

from pathlib import Path

import msgspec

from dunechest.ledger.past_changes import OpenChange
from dunechest.model.rehome import RehomePlan
from dunechest.progress import Progress, Stage, Step


class Run(msgspec.Struct):
    """What gathers while a plan is carried out.

    Parameters
    ----------
    plan : RehomePlan
        The plan.
    staging : Path
        The folder that is worked in, beside the new place.
    past_change : OpenChange
        Where each step is written down before it is taken.
    progress : Progress
        Told how far it is.
    """

    plan: RehomePlan
    staging: Path
    past_change: OpenChange
    progress: Progress
    #: Bytes, time (ns) and BLAKE3 of each file that was copied and proven, by its path as the plan has it.
    proven: dict[str, tuple[int, int, bytes]] = msgspec.field(default_factory=dict)
    #: Paths whose attributes or access lists the drive cannot hold.
    missed: set[str] = msgspec.field(default_factory=set)

    @property
    def tree(self) -> Path:
        """The folder in which the library is put together."""
        return self.staging / "tree"

    @property
    def outside(self) -> Path:
        """The folder in which files from outside the library wait."""
        return self.staging / "outside"

    @property
    def marks(self) -> list[str]:
        """Paths of lock marks that are not moved."""
        return [path for path, _ in self.plan.unmoved_files]

    def tell(self, stage: Stage) -> None:
        """Tell that a stage has begun in which nothing is counted."""
        self.progress(Step(stage, 0, 0, 0, 0, self.plan.name))
