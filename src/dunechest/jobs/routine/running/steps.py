"""The steps of a routine: each does one job for one chest, and says what came of it. Nothing is forced, nothing is asked."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterator
from pathlib import Path

from dunechest.chest.chest import Chest
from dunechest.errors import ChestBusyError, DuneChestError, NotConnectedError, RefusedError
from dunechest.findings import Finding
from dunechest.jobs.archive.several import archive
from dunechest.jobs.check.drill import drill
from dunechest.jobs.check.verify import verify
from dunechest.jobs.copy import copy_chest
from dunechest.jobs.editions import carry_out as carry_out_drop
from dunechest.jobs.editions import plan_drop
from dunechest.jobs.known.holdings import is_known_damaged
from dunechest.library.library import Library
from dunechest.model.archive import ArchiveResult
from dunechest.model.routine import RoutineStep
from dunechest.names import quoted, shown
from dunechest.progress import Progress
from dunechest.words import both, number, size

#: Findings that pass by themselves: what is open now will be closed.
PASSING = frozenset({"in-use"})


def guarded(
    what: str,
    chest: Chest,
    library: str,
    command: str,
    work: Callable[[], Iterator[RoutineStep]],
    *,
    source: Chest | None = None,
) -> Iterator[RoutineStep]:
    """Do a step; an error becomes a step that says so, so that the others are done all the same.

    A drive that is pulled between two steps shows itself as whatever error comes first; so the drives are looked
    at, and not the error. The step counts for `chest`, also if it is the drive of `source` that is gone.
    """
    try:
        yield from work()
    except ChestBusyError:
        text = f"{shown(chest.label)} is being changed by another program; tried again at the next hour."
        yield RoutineStep(what, "busy", text, chest.label, library)
    except RefusedError as error:
        yield _refused(what, chest, library, command, error)
    except NotConnectedError as error:
        yield RoutineStep(what, "interrupted", str(error), chest.label, library)
    except (DuneChestError, OSError) as error:
        gone = next((one for one in (chest, source) if one is not None and not one.folder.is_dir()), None)
        if gone is None:
            # What the system says of a path holds it as it is; our own messages can be shown already.
            text = str(error) if isinstance(error, DuneChestError) else shown(str(error))
            yield RoutineStep(what, "problem", text, chest.label, library, command)
        else:
            text = f"{shown(gone.label)} was disconnected in the middle; it is continued when it is back."
            yield RoutineStep(what, "interrupted", text, chest.label, library)


def _refused(what: str, chest: Chest, library: str, command: str, error: RefusedError) -> RoutineStep:
    findings: tuple[Finding, ...] = error.findings
    if not findings:
        return RoutineStep(what, "blocked", str(error), chest.label, library, command)
    first = findings[0]
    name = f"{shown(library)}: " if library and not first.message.startswith(shown(library)) else ""
    codes = tuple(finding.code for finding in findings)
    return RoutineStep(what, "blocked", f"{name}{first.message} {first.action}", chest.label, library, command, codes)


def archive_step(library: Library, chests: list[Chest], progress: Progress) -> Iterator[RoutineStep]:
    """Archive a library to chests; it is read once, if nothing keeps one of them from it."""
    command = f"dunechest archive {quoted(str(library.path))} --to {quoted(chests[0].label)}"

    def together() -> Iterator[RoutineStep]:
        for result in archive(library, chests, progress=progress):
            yield _archived(result)

    if len(chests) > 1:
        try:
            yield from list(together())
            return
        except (DuneChestError, OSError):
            pass  # each by itself then: what is wrong with one drive is no reason to leave the others out
    for chest in chests:
        command = f"dunechest archive {quoted(str(library.path))} --to {quoted(chest.label)}"

        def one(chest: Chest = chest) -> Iterator[RoutineStep]:
            (result,) = archive(library, chest, progress=progress)
            yield _archived(result)

        yield from guarded("archive", chest, library.name, command, one)


def _archived(result: ArchiveResult) -> RoutineStep:
    name, chest = shown(result.name), shown(result.chest_label)
    if not result.ok:
        why = _why_not_well(result)
        text = f"{name} was archived to {chest}, but not completely: {why}."
        command = f"dunechest archive {quoted(result.archived_as)} --to {quoted(result.chest_label)}"
        return RoutineStep("archive", "problem", text, result.chest_label, result.archived_as, command)
    if result.state == "unchanged":
        text = f"{name} is in {chest} as it is{_not_seen(result)}."
        return RoutineStep("archive", "unchanged", text, result.chest_label, result.archived_as)
    new = result.archived_count - result.unchanged_count
    text = f"{name} archived to {chest}: edition {result.edition}, {number(new, 'file')} copied{_not_seen(result)}."
    return RoutineStep("archive", "done", text, result.chest_label, result.archived_as)


def _not_seen(result: ArchiveResult) -> str:
    """Say how many files could not be seen, and why the first one could not."""
    if not result.not_seen_files:
        return ""
    first = result.not_seen_files[0]
    where = f" ({shown(first.place)} is not there)" if first.why == "away" else ""
    kept = "is kept" if len(result.not_seen_files) == 1 else "are kept"
    return f"; {number(len(result.not_seen_files), 'file')} could not be seen{where} and {kept}"


def _why_not_well(result: ArchiveResult) -> str:
    faults = [left for left in result.left_out if left.fault]
    if faults:
        return f"{number(len(faults), 'file')} could not be read, first {shown(faults[0].path)}"
    if result.damaged_databases:
        return f"the database {shown(result.damaged_databases[0][0])} is damaged"
    if result.silently_changed_paths:
        return f"{shown(result.silently_changed_paths[0])} has a different content than before, though its date is the same"
    if result.lost_files:
        return f"{shown(result.lost_files[0][0])} is gone from the chest and differs in the library"
    return "it changed while it was archived"


def copy_step(source: Chest, target: Chest, progress: Progress) -> Iterator[RoutineStep]:
    """Copy all that is new in a chest to another one."""
    command = f"dunechest copy {quoted(source.label)} {quoted(target.label)}"

    def work() -> Iterator[RoutineStep]:
        for result in copy_chest(source, target, progress=progress):
            name = shown(result.name)
            if not result.ok:
                why = result.missing_files[0][1] if result.missing_files else ""
                why = why or (result.findings[0].message if result.findings else "it cannot be copied now")
                text = f"{name} was not copied to {shown(target.label)} completely: {shown(why)}"
                yield RoutineStep("copy", "problem", text, target.label, result.name, command)
            elif result.copied_count or result.editions:
                text = (
                    f"{name} copied to {shown(target.label)}: "
                    f"{number(result.copied_count, 'file')}, {size(result.copied_bytes)}."
                )
                yield RoutineStep("copy", "done", text, target.label, result.name)
            else:
                yield RoutineStep(
                    "copy", "unchanged", f"{name} is in {shown(target.label)} as it is.", target.label, result.name
                )

    yield from guarded("copy", target, "", command, work, source=source)


def verify_step(chest: Chest, minutes: float, progress: Progress) -> Iterator[RoutineStep]:
    """Verify a chest for some minutes, least recently checked first."""
    command = f"dunechest mend {quoted(chest.label)}"

    def work() -> Iterator[RoutineStep]:
        result = verify(chest, seconds=minutes * 60, progress=progress)
        for check in result.libraries:
            wrong = [state for state in check.problems if state.state not in ("noted", "no-access")]
            if not wrong:
                continue
            first = f"{shown(wrong[0].path)}: {shown(wrong[0].why)}"
            text = f"{shown(check.name)} in {shown(chest.label)} is damaged: {number(len(wrong), 'file')} not intact; {first}."
            yield RoutineStep("verify", "problem", text, chest.label, check.name, command)
        files = sum(check.file_count for check in result.libraries)
        records = sum(check.record_count for check in result.libraries)
        if result.ok:
            text = f"{shown(chest.label)}: {both(files, records)} checked, all intact."
            yield RoutineStep("verify", "done", text, chest.label)

    yield from guarded("verify", chest, "", command, work)


def drill_step(chest: Chest, progress: Progress) -> Iterator[RoutineStep]:
    """Drill the library of a chest whose last drill is the longest ago."""

    def work() -> Iterator[RoutineStep]:
        name = _least_drilled(chest)
        if not name:
            return
        (done,) = drill(chest, [name], progress=progress)
        if done.passed:
            text = f"{shown(name)} in {shown(chest.label)} passed a drill."
            yield RoutineStep("drill", "done", text, chest.label, name)
        else:
            why = f": {shown(done.why_not)}" if done.why_not else ""
            text = f"{shown(name)} in {shown(chest.label)} did not pass the drill{why}."
            command = f"dunechest drill {quoted(chest.label)} {quoted(name)}"
            yield RoutineStep("drill", "problem", text, chest.label, name, command)

    yield from guarded("drill", chest, "", f"dunechest drill {quoted(chest.label)}", work)


def _least_drilled(chest: Chest) -> str:
    from dunechest.ledger.ledger import open_ledger

    names = [entry.name for entry in chest.bags() if entry.state == "whole"]
    with open_ledger() as ledger:
        last: dict[str, int] = {}
        for past in ledger.drills(chest.id):
            last.setdefault(past.bag, past.turn)
    return min(names, key=lambda name: (last.get(name, 0), name), default="")


def drop_step(chest: Chest, bag: str, rule: str) -> Iterator[RoutineStep]:
    """Drop the editions of a library that the rule does not keep."""
    command = f"dunechest editions list {quoted(chest.label)} {quoted(bag)}"

    def work() -> Iterator[RoutineStep]:
        plan = plan_drop(chest, bag, rule)
        if plan.dropped_editions and is_known_damaged(chest, bag):
            text = (
                f"{shown(bag)} in {shown(chest.label)} is damaged, so no edition of it was dropped: only an earlier one may "
                "have a file intact."
            )
            yield RoutineStep(
                "drop", "problem", text, chest.label, bag, f"dunechest mend {quoted(chest.label)} {quoted(bag)}"
            )
            return
        result = carry_out_drop(plan)
        if result.dropped:
            text = (
                f"{shown(bag)} in {shown(chest.label)}: {number(len(result.dropped), 'edition')} dropped by the rule, "
                f"{size(result.bytes)} freed."
            )
            yield RoutineStep("drop", "done", text, chest.label, bag)

    yield from guarded("drop", chest, bag, command, work)


def open_chest(folder: str, wanted: str, machine: str) -> Chest | None:
    """Open the chest in a folder, if it is the one that is meant; None if it is gone or another one."""
    if not os.path.isdir(folder):
        return None
    chest = Chest.open(Path(folder), machine=machine)
    return chest if chest.id == wanted else None
