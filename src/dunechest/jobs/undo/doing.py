"""Undo what was done to this computer: exactly, or not at all."""

from __future__ import annotations

from pathlib import Path

from dunechest.errors import CutOffError, RefusedError
from dunechest.jobs.known.holdings import state_undone
from dunechest.jobs.known.homes import note_undone
from dunechest.jobs.undo.as_left import rewritten_in
from dunechest.jobs.undo.steps import undo_steps
from dunechest.ledger import deeds, events
from dunechest.ledger.deeds import Aside, Deed, Swapped
from dunechest.model.undo import UndoPlan, UndoResult
from dunechest.names import from_wire, shown
from dunechest.words import number


def carry_out(plan: UndoPlan) -> UndoResult:
    """Undo the deeds of a plan.

    Raises
    ------
    RefusedError
        If somebody changed something since; nothing was changed then.
    CutOffError
        If the system refuses in the middle; run the same command again to continue.
    """
    if plan.changed_since:
        some = "; ".join(shown(what) for what in plan.changed_since[:5])
        more = f"; and {len(plan.changed_since) - 5:,} more" if len(plan.changed_since) > 5 else ""
        raise RefusedError(
            f"Refused: it cannot be undone exactly, "
            f"because {number(len(plan.changed_since), 'thing')} changed since: {some}{more}. "
            "Nothing was changed. Look at them; remove by hand what you do not want."
        )
    try:
        for deed in plan.libraries:
            undo_change(deed, only_references=plan.only_references)
    except CutOffError:
        raise
    except OSError as error:
        raise CutOffError(
            f"Undo was interrupted: {error.strerror or error}. Run the same command again to continue."
        ) from error
    return UndoResult(plan.libraries, plan.actions, plan.only_references)


def undo_change(deed: Deed, *, only_references: bool = False) -> None:
    """Undo a deed without asking; each step whether it was taken or not.

    Raises
    ------
    OSError
        If the system refuses.
    """
    for step in undo_steps(deed, rewritten_in(deed), only_references=only_references):
        step.back()
    if not only_references:
        if deed.head.id:
            asides = [Path(from_wire(step.new)) for step in deed.steps if isinstance(step, Aside | Swapped)]
            note_undone(Path(from_wire(deed.head.place)), deed.head.id, asides)
        if deed.head.state:
            events.try_append(state_undone(Path(from_wire(deed.head.place)), deed.head.state))
        deeds.close(deed.number, "undone")
        deeds.forget(deed.number)
