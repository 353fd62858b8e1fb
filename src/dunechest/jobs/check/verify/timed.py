"""Verify for a limited time: the longest unchecked first, going on where the last time ended."""

from __future__ import annotations

import time
from collections.abc import Iterable, Sequence
from typing import TYPE_CHECKING

from dunechest.chest.bag_entry import BagEntry
from dunechest.chest.chest import Chest
from dunechest.errors import CutOffError
from dunechest.jobs.check.verify.check import check_part
from dunechest.jobs.check.verify.complete import check_event, missing_bags
from dunechest.jobs.known.logs import keep_in_step
from dunechest.ledger import events, memory
from dunechest.machine.volumes import identity, is_same_place
from dunechest.model.verify import BagCheck, VerifyResult
from dunechest.names import shown
from dunechest.progress import Progress, silent

if TYPE_CHECKING:
    from dunechest.ledger.ledger import Round


def verify_for(
    chest: Chest, seconds: float, libraries: Sequence[str] = (), *, progress: Progress = silent
) -> VerifyResult:
    """Check files of a chest until the time is up, and note how far it came.

    The libraries go in the order of their last complete check, the longest ago first; one that was
    begun is finished before that. Of a library the files go by name, from where the last time ended. When the
    last file of a library was checked, its round is complete and counts as a full check.

    Parameters
    ----------
    chest : Chest
        The chest.
    seconds : float
        How long; the batch at hand is finished.
    libraries : sequence of str
        Names of bags in the chest; all of them if empty.
    progress : Progress
        Told how far it is.

    Returns
    -------
    VerifyResult
        What was checked now; `BagCheck.remaining` counts what is left of a library's round.

    Raises
    ------
    UsageError
        If there is no library of that name.
    CutOffError
        If the drive went away.
    DuneChestError
        If the ledger cannot be used: without it nothing is remembered.
    """
    until = time.monotonic() + seconds
    entries = [chest.bag(name) for name in libraries] if libraries else list(chest.bags())
    checks: list[BagCheck] = []
    for entry, begun in _in_order(chest, entries):
        if checks and time.monotonic() >= until:
            break
        check = check_part(entry, begun.next, until, progress)
        checks.append(check)
        if not chest.folder.is_dir():
            raise CutOffError(f"The chest {shown(chest.label)} was disconnected while it was verified.")
        _note(chest, entry, begun, check)
    if not libraries:
        there = {entry.name for entry in entries}
        checks += missing_bags(chest, memory.libraries_of(chest.id, identity(chest.folder)), there)
    keep_in_step(chest)
    return VerifyResult(chest.folder, chest.label, False, tuple(checks))


def _in_order(chest: Chest, entries: Iterable[BagEntry]) -> list[tuple[BagEntry, Round]]:
    """Return libraries with the rounds that were begun: these first, then the one whose last complete check is oldest."""
    # A database library is loaded only where the ledger is asked: an ordinary check does not wait for it.
    from dunechest.ledger.ledger import Round, open_ledger

    where = identity(chest.folder)
    with open_ledger() as ledger:
        # What was begun on a copy of this chest says nothing of this one.
        rounds = {begun.bag: begun for begun in ledger.rounds(chest.id) if is_same_place(begun.where, where)}
        complete: dict[str, int] = {}
        for past in ledger.checks(chest.id):
            if not past.quick:
                complete.setdefault(past.bag, past.turn)
    order = sorted(
        {entry.name: entry for entry in entries}.values(),
        key=lambda e: (e.name not in rounds, complete.get(e.name, 0), e.name),
    )
    return [(entry, rounds.get(entry.name, Round(entry.name, "", 0, 0))) for entry in order]


def _note(chest: Chest, entry: BagEntry, begun: Round, check: BagCheck) -> None:
    """Note how far a library's round has come; a complete one is a full check."""
    if check.kind not in ("library", "foreign bag"):
        return
    if check.closed and not check.wrong:
        return  # of what this user may not read nothing is known
    wrong = begun.wrong + check.wrong
    files = begun.files + check.files
    # The result is shown; without this only the memory of it is missing.
    if check.remaining_count:
        facts = {"chest": chest.id, "bag": entry.name, "next": check.next, "wrong": wrong, "files": files}
        facts["where"] = identity(chest.folder)
        # What was found wrong counts at once, and not only when the round is complete.
        met = (
            [check_event(chest, entry.name, quick=True, files=check.files, wrong=check.wrong)] if check.wrong else []
        )
        events.try_append(("round", facts), *met)
        if met:
            keep_in_step(chest)
    else:
        facts = {"chest": chest.id, "bag": entry.name, "next": "", "wrong": 0, "files": 0}
        facts["where"] = identity(chest.folder)
        events.try_append(("round", facts), check_event(chest, entry.name, quick=False, files=files, wrong=wrong))
