"""Verify a chest, some of its libraries, or any RFC 8493 bag that someone else made."""

from __future__ import annotations

import datetime
from collections.abc import Container, Iterable, Mapping, Sequence
from pathlib import Path
from typing import Any

from msgspec.structs import replace

from dunechest.chest.chest import Chest
from dunechest.chest.layout import bag_folder
from dunechest.errors import CutOffError
from dunechest.jobs.check.verify.check import check_bag, entry_at
from dunechest.jobs.known.holdings import note_holdings
from dunechest.jobs.known.logs import keep_in_step
from dunechest.ledger import events, memory
from dunechest.ledger.memory import Remembered
from dunechest.machine.volumes import identity
from dunechest.model.verify import BagCheck, FileState, VerifyResult
from dunechest.names import quoted, shown
from dunechest.progress import Progress
from dunechest.words import number


def verify_bag(folder: Path, *, quick: bool, progress: Progress) -> VerifyResult:
    """Check a single bag by its folder."""
    bag = folder.resolve()
    return VerifyResult(bag, "", quick, (check_bag(entry_at(bag), quick, progress),))


def verify_chest(chest: Chest, libraries: Sequence[str], *, quick: bool, progress: Progress) -> VerifyResult:
    """Check a chest, or some of its libraries; see `dunechest.verify`."""
    entries = [chest.bag(name) for name in libraries] if libraries else list(chest.bags())
    once = {entry.name: entry for entry in entries}
    remembered = memory.libraries_of(chest.id, identity(chest.folder))
    checks = [check_bag(entry, quick, progress) for entry in once.values()]
    if quick:
        checks = [_not_yet_mended(check, remembered.get(check.name)) for check in checks]
    if not libraries:
        checks += missing_bags(chest, remembered, once)
        checks += _own_records(chest)
    if not chest.folder.is_dir():
        raise CutOffError(f"The chest {shown(chest.label)} was disconnected while it was verified.")
    note_results(chest, checks)
    gone = {check.name for check in checks if check.kind == "missing"}
    if not libraries:
        gone |= _held_before(chest) - once.keys()
    note_holdings(chest, once.values(), sorted(gone), progress=progress)
    keep_in_step(chest)
    return VerifyResult(chest.folder, chest.label, quick, tuple(checks))


def _held_before(chest: Chest) -> set[str]:
    """Return the bags that the chest held as anybody's log tells, without those that a person removed."""
    from dunechest.ledger.ledger import open_ledger

    with open_ledger() as ledger:
        forgotten = ledger.forgotten_in(chest.id)
        held = [item for item in ledger.holdings() if item.chest == chest.id and item.name and not item.gone]
    return {item.bag for item in held if forgotten.get(item.bag, 0) < item.turn}


def missing_bags(chest: Chest, remembered: Mapping[str, Remembered], there: Container[str]) -> list[BagCheck]:
    """Name what this computer archived to a chest, or checked in it, and what is no longer there."""
    found = []
    for bag in sorted(remembered):
        if bag not in there:
            day = datetime.datetime.fromtimestamp(remembered[bag].met).astimezone().date().isoformat()
            why = (
                f"this computer last saw it here on {day}, and its folder is gone or renamed. If you removed it "
                f"yourself: dunechest chest forget {quoted(chest.label)} {quoted(bag)}"
            )
            folder = bag_folder(chest.folder, bag)
            found.append(BagCheck(bag, folder, "missing", False, 0, 0, 0, (FileState("", "missing", why),), 0.0))
    return found


def _own_records(chest: Chest) -> list[BagCheck]:
    """Name what is damaged of the chest's own records."""
    if not chest.faults:
        return []
    how = f"; to rebuild it: dunechest chest rebuild {quoted(str(chest.folder))}"
    states = tuple(FileState(fault.path, fault.state, fault.why + how) for fault in chest.faults)
    return [
        BagCheck("the chest itself", chest.folder, "chest", False, 3, 0, 3 - len(states), states, 0.0, record_count=3)
    ]


def _not_yet_mended(check: BagCheck, before: Remembered | None) -> BagCheck:
    """Remind of what the last check of every byte found: names and sizes cannot take it back."""
    if before is None or before.checked is None or not before.wrong:
        return check
    day = datetime.datetime.fromtimestamp(before.checked).astimezone().date().isoformat()
    why = (
        f"the last check of every byte ({day}) found {number(before.wrong, 'fault')} here. Names and sizes cannot tell "
        "whether they are repaired: verify it without --quick"
    )
    return replace(check, problems=(*check.problems, FileState("", "changed", why)))


def note_results(chest: Chest, checks: Iterable[BagCheck]) -> None:
    """Note in the ledger what checks found."""
    items = [
        check_event(
            chest,
            check.name,
            quick=check.quick,
            files=check.files,
            wrong=check.wrong,
        )
        for check in checks
        # Of what this user may not read nothing is known: that is no evidence of anything.
        if check.kind in ("library", "foreign bag", "unusable") and (check.wrong or not check.closed)
    ]
    if items:
        events.try_append(*items)  # the result is shown; without this only the memory of it is missing


def check_event(chest: Chest, bag: str, *, quick: bool, files: int, wrong: int) -> tuple[str, dict[str, Any]]:
    """Return the event that a library was checked."""
    facts = {"chest": chest.id, "bag": bag, "quick": quick, "intact": not wrong, "files": files, "wrong": wrong}
    return "check", {**facts, "where": identity(chest.folder)}
