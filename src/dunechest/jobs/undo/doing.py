"""Undo what was done to this computer: exactly, or not at all."""

from __future__ import annotations

from pathlib import Path

from dunechest.errors import CutOffError, RefusedError
from dunechest.jobs.known.holdings import state_undone
from dunechest.jobs.known.homes import note_undone
from dunechest.jobs.undo.as_left import rewritten_in
from dunechest.jobs.undo.steps import undo_steps
from dunechest.ledger import events, past_changes
from dunechest.ledger.past_changes import Aside, PastChange, Swapped
from dunechest.model.undo import UndoPlan, UndoResult
from dunechest.names import from_wire, shown
from dunechest.words import number


def carry_out(plan: UndoPlan) -> UndoResult:
    """Undo the changes of a plan.

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
        for past_change in plan.libraries:
            undo_change(past_change, only_references=plan.only_references)
    except CutOffError:
        raise
    except OSError as error:
        raise CutOffError(
            f"Undo was interrupted: {error.strerror or error}. Run the same command again to continue."
        ) from error
    return UndoResult(plan.libraries, plan.actions, plan.only_references)


def undo_change(past_change: PastChange, *, only_references: bool = False) -> None:
    """Undo a change without asking; each step whether it was taken or not.

    Raises
    ------
    OSError
        If the system refuses.
    """
    for step in undo_steps(past_change, rewritten_in(past_change), only_references=only_references):
        step.back()
    if not only_references:
        if past_change.head.id:
            asides = [Path(from_wire(step.new)) for step in past_change.steps if isinstance(step, Aside | Swapped)]
            note_undone(Path(from_wire(past_change.head.place)), past_change.head.id, asides)
        if past_change.head.state:
            events.try_append(state_undone(Path(from_wire(past_change.head.place)), past_change.head.state))
        past_changes.close(past_change.number, "undone")
        past_changes.forget(past_change.number)
