"""Undo what a process that is no more had begun and not finished."""

from __future__ import annotations

import os

from dunechest.errors import DuneChestError
from dunechest.jobs.undo.doing import undo_change
from dunechest.jobs.undo.planning import plan_undo
from dunechest.ledger import deeds
from dunechest.ledger.deeds import Deed
from dunechest.machine.processes import lives
from dunechest.names import shown


def cut_off() -> tuple[Deed, ...]:
    """Return the changes that an interrupted process had begun, the latest first."""
    return tuple(
        deed
        for deed in deeds.deeds()
        if not deed.finished and deed.head.pid != os.getpid() and not lives(deed.head.pid)
    )


def recover() -> tuple[Deed, ...]:
    """Undo what an interrupted process had begun; return those changes.

    Raises
    ------
    DuneChestError
        If something of it was changed since, so that a person has to look.
    """
    found = []
    for deed in cut_off():
        plan = plan_undo(deed)
        if plan.changed:
            some = "; ".join(shown(what) for what in plan.changed[:3])
            raise DuneChestError(
                f"A restore of {shown(deed.head.about)} was interrupted, and what it had begun was changed since: {some}. "
                f"Nothing was changed now. What was renamed or written is listed in {_file(deed)}; sort that out by "
                "hand, then remove that file."
            )
        undo_change(deed)
        found.append(deed)
    return tuple(found)


def _file(deed: Deed) -> str:
    return shown(str(deeds.kept_folder(deed.number).with_suffix(".jsonl")))
