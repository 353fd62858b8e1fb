"""State of a running restore."""

from __future__ import annotations

from pathlib import Path

import msgspec

from dunechest.findings import Finding
from dunechest.ledger.past_changes import OpenChange
from dunechest.model.restore import NotDone, RestoreFile, RestorePlan
from dunechest.progress import Progress, Stage, Step


class Run(msgspec.Struct, eq=False):
    """What gathers while a plan is carried out.

    Parameters
    ----------
    plan : RestorePlan
        The plan.
    place : Path
        Where the library goes.
    staging : Path
        The folder that is worked in.
    past_change : OpenChange
        Where each step is written down before it is taken.
    progress : Progress
        Told how far it is.
    """

    plan: RestorePlan
    place: Path
    staging: Path
    past_change: OpenChange
    progress: Progress
    #: Everything of the archive that is not brought back, with the reason.
    not_done: list[NotDone] = msgspec.field(default_factory=list)
    #: Files that were copied and proven.
    restored: list[RestoreFile] = msgspec.field(default_factory=list)
    #: Symbolic links that were made.
    links: int = 0
    #: Owners and attributes that could not be given back.
    missed: list[Finding] = msgspec.field(default_factory=list)

    def __post_init__(self) -> None:
        self.not_done = list(self.plan.not_restored)

    @property
    def tree(self) -> Path:
        """The folder in which the library is put together."""
        return self.staging / "tree"

    def tell(self, stage: Stage) -> None:
        """Tell that a stage has begun in which nothing is counted."""
        self.progress(Step(stage, 0, 0, 0, 0, self.plan.name))

    def leave(self, path: str, why: str, *, fault: bool = True, damage: bool = False, closed: bool = False) -> None:
        """Note that something is not brought back, and why; `fault`, `damage` and `closed` as in `NotDone`."""
        self.not_done.append(NotDone(path, why, fault, damage, closed))
