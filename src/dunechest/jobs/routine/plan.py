"""What is to be done of a routine now, as plain values."""

from __future__ import annotations

from typing import ClassVar

import msgspec

from dunechest.jobs.routine.routine import Routine, RoutineChest
from dunechest.values import Value


class ChestDue(msgspec.Struct, frozen=True):
    """A chest that a routine is due for.

    Parameters
    ----------
    chest : RoutineChest
        The chest.
    moment : float
        The time that is settled by serving it now.
    since : float
        The first time that is not settled.
    folder : str
        Where it is connected; empty if it is not.
    """

    chest: RoutineChest
    moment: float
    since: float
    folder: str = ""


class RoutinePlan(Value, msgspec.Struct, frozen=True):
    """What is to be done of a routine now.

    Parameters
    ----------
    routine : Routine
        The routine.
    serve : tuple of ChestDue
        Chests of `Routine.chests` that are due and connected.
    copy_to : tuple of ChestDue
        Chests of `Routine.copy_to` that are due and connected, if one to copy from is, too.
    source : str
        The folder of the chest that is copied from; empty if there is none.
    absent : tuple of ChestDue
        Chests that are due and not connected.
    overdue : tuple of ChestDue
        Those of `absent`, and those that wait, whose patience is over and that were not told lately.
    wait : str
        Why nothing is done now though something is due; empty if nothing keeps it.
    again : bool
        Whether a run before was interrupted.
    """

    _shown: ClassVar[tuple[str, ...]] = ("routine", "serve", "absent")

    routine: Routine
    serve: tuple[ChestDue, ...] = ()
    copy_to: tuple[ChestDue, ...] = ()
    source: str = ""
    absent: tuple[ChestDue, ...] = ()
    overdue: tuple[ChestDue, ...] = ()
    wait: str = ""
    again: bool = False

    @property
    def nothing(self) -> bool:
        """Whether there is nothing to do and nothing to tell."""
        return not (self.serve or self.copy_to or self.overdue)
