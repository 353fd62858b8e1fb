"""Carry out a deletion: what goes gets another name in one step, then it is deleted file by file, each as it was looked at.

Until the first file is deleted everything can be undone; from then on the same command finishes it.
"""

from __future__ import annotations

import os
import time
from collections.abc import Iterable, Iterator, Sequence
from contextlib import nullcontext
from pathlib import Path

from dunechest.errors import CutOffError, DuneChestError, RefusedError, refuse_blocked
from dunechest.jobs.known.homes import known_homes, note_aside, note_aside_gone
from dunechest.jobs.move.reclaim.doing.last_look import chests_held, read_all
from dunechest.jobs.move.reclaim.doing.take_out import move, take_out_parts
from dunechest.jobs.undo.doing import undo_change
from dunechest.jobs.undo.forward import MARK, finish_removal
from dunechest.ledger import events, past_changes
from dunechest.ledger.asides import forget_aside
from dunechest.ledger.past_changes import Aside, Listed, OpenChange, Removing
from dunechest.library.in_use import in_use
from dunechest.machine.drives import filesystem
from dunechest.machine.folders import own_home
from dunechest.model.reclaim import ReclaimPlan, ReclaimResult
from dunechest.model.restore import today
from dunechest.names import shown, to_wire
from dunechest.progress import Progress, Tally, silent
from dunechest.transfer import disk
from dunechest.transfer.walk import FileEntry
from dunechest.values import PathAndWhy

#: Filesystems that can keep earlier states of themselves.
_WITH_SNAPSHOTS = frozenset({"btrfs", "zfs", "apfs", "bcachefs", "nilfs2"})


def carry_out(
    plan: ReclaimPlan, *, progress: Progress = silent, command: str = "", checked: Iterable[str] | None = None
) -> ReclaimResult:
    """Delete what a plan says.

    Parameters
    ----------
    plan : ReclaimPlan
        From `plan_reclaim`; what it says is to be checked first has been checked.
    progress : Progress
        Told how far it is.
    command : str
        Something that all changes of one command have in common.
    checked : iterable of str
        Labels of the chests whose copies were read whole just before, while all were held; None if they are not held yet.

    Returns
    -------
    ReclaimResult

    Raises
    ------
    RefusedError
        If a blocking finding remains, or something has to be checked first. Nothing was deleted.
    CutOffError
        If the system refuses in the middle; the same command finishes it.
    """
    refuse_blocked("Refused: nothing was deleted, because {} cannot be deleted now.", {plan.name: plan.blocked})
    if not plan.proven:
        labels = ", ".join(dict.fromkeys((*plan.first_checked_labels, *filter(None, (plan.first_drilled_label,)))))
        raise RefusedError(f"Refused: the copies in {shown(labels)} have to be checked first. Nothing was deleted.")
    begun = time.monotonic()
    with chests_held(plan) if checked is None else nullcontext():
        return _carry_out(plan, progress, command, tuple(checked or ()), begun)


def _carry_out(
    plan: ReclaimPlan, progress: Progress, command: str, checked: Sequence[str], begun: float
) -> ReclaimResult:
    _refuse_in_use(plan)
    before = _free(plan.path.parent)
    past_change = past_changes.begin("reclaim", plan.name, to_wire(str(plan.path)), command)
    aside = _aside_name(plan)
    try:
        along = _out_of_the_way(plan, aside, past_change)
        read_all(plan, aside, progress, checked)
        lines = list(_lines(plan, aside, along))
        step = Removing(
            to_wire(str(aside)),
            past_change.listing(lines),
            to_wire(str(plan.path)),
            plan.options.trash,
            False,
            plan.restore_command,
        )
        past_change.will(step)
    except BaseException as error:
        _give_up(past_change)
        if isinstance(error, OSError) and not isinstance(error, DuneChestError):
            raise CutOffError(
                f"The original of {shown(plan.name)} could not be deleted: {error.strerror or error}. It is where it was."
            ) from error
        raise
    left = _delete(plan, step, past_change, progress)
    past_change.close()
    return _summary(plan, left, before, begun)


def _refuse_in_use(plan: ReclaimPlan) -> None:
    paths = [file.path for file in plan.going if not file.placeholder]
    uses = in_use(plan.path, plan.library.kind, paths, Path(os.path.realpath(own_home())))
    if uses:
        raise RefusedError(
            f"{shown(plan.name)} was opened meanwhile, by {shown(uses[0].process)}: {shown(uses[0].how)}. Nothing was deleted."
        )


def _aside_name(plan: ReclaimPlan) -> Path:
    """Return the name that what goes gets; a folder of that name was left by somebody and is not touched."""
    mark = f" (deleted {today()})" if plan.options.trash else MARK
    stem = plan.path.name[:180]
    for count in range(1, 1000):
        name = plan.path.with_name(f"{stem}{f' {count}' if count > 1 else ''}{mark}")
        if not os.path.lexists(name):
            return name
    raise AssertionError("a thousand folders of that name")


def _out_of_the_way(plan: ReclaimPlan, aside: Path, past_change: OpenChange) -> list[str]:
    """Give what goes another name, so that no application meets half of it; what stays keeps its place."""
    if plan.taken is not None:
        going = {file.path for file in plan.going}
        return take_out_parts(plan.library, plan.taken, going, aside, past_change)
    past_change.will(Aside(to_wire(str(plan.path)), to_wire(str(aside))))
    disk.rename(plan.path, aside)
    disk.flush_folder(aside.parent)
    staying = [path for path, _ in plan.kept_files]
    tops = tuple(path + "/" for path in staying)
    move([path for path in staying if not path.startswith(tops or ("\0",))], aside, plan.path, past_change)
    return []


def _lines(plan: ReclaimPlan, aside: Path, along: Sequence[str]) -> Iterator[Listed]:
    yield Listed("", -1, 0)
    for file in plan.going:
        yield Listed(to_wire(file.path), file.size, file.mtime_ns)
    for path in plan.links:
        yield Listed(to_wire(path), -2, 0)
    folders = set(plan.folders) - {""}
    if plan.taken is not None:
        folders = {os.path.relpath(folder, aside) for folder, _, _ in os.walk(aside)} - {"."}
    for folder in sorted(folders):
        yield Listed(to_wire(folder), -1, 0)
    for path in along:
        info = os.lstat(aside / path)
        yield Listed(to_wire(path), info.st_size, info.st_mtime_ns)


def _delete(plan: ReclaimPlan, step: Removing, past_change: OpenChange, progress: Progress) -> tuple[str, ...]:
    tally = Tally(progress, "deleting", 0, sum(file.size for file in plan.going), plan.name)
    tally.tell()
    try:
        left = list(finish_removal(past_change.number, step, tally))
        for folder, files in _by_folder(plan.outside).items():
            lines = [Listed(to_wire(os.path.basename(f.path)), f.size, f.mtime_ns) for f in files]
            own = Removing(to_wire(folder), past_change.listing(lines), "", False, True)
            past_change.will(own)
            finish_removal(past_change.number, own, tally)
            left += [file.path for file in files if os.path.lexists(file.path)]
    except OSError as error:
        if isinstance(error, CutOffError):
            raise
        raise CutOffError(
            f"The deletion of {shown(plan.name)} was interrupted: {error.strerror or error}. Nothing but what is safe elsewhere "
            "was deleted; run the same command again to finish it."
        ) from error
    tally.tell()
    return tuple(left)


def _by_folder(files: Sequence[FileEntry]) -> dict[str, list[FileEntry]]:
    found: dict[str, list[FileEntry]] = {}
    for file in files:
        found.setdefault(os.path.dirname(file.path), []).append(file)
    return found


def _give_up(past_change: OpenChange) -> None:
    known = next((item for item in past_changes.past_changes() if item.number == past_change.number), None)
    try:
        if known is not None:
            undo_change(known)
    except (OSError, DuneChestError):
        pass  # the next command that moves, deletes or undoes finishes this


def _free(folder: Path) -> int:
    try:
        if hasattr(os, "sync"):
            os.sync()
        return filesystem(folder).free
    except OSError:
        return 0


def _summary(plan: ReclaimPlan, left: Sequence[str], before: int, begun: float) -> ReclaimResult:
    freed = max(0, _free(plan.path.parent) - before)
    stays = tuple(PathAndWhy(path, "it was changed or put there meanwhile") for path in left)
    gone = [file for file in plan.going if str(plan.path / file.path) not in left]
    rest = plan.path if plan.taken is None and os.path.lexists(plan.path) else None
    if plan.what == "set-aside":
        if rest is not None:
            note_aside(plan.path, gone=False, facts=_facts(plan))
        else:
            note_aside_gone(plan.path)
            if plan.listing and all(home.past.id != plan.listing for home in known_homes()):
                forget_aside(plan.listing)  # a library that is still there may want its modes
    count, size = len(gone) + len(plan.outside), sum(file.size for file in (*gone, *plan.outside))
    facts = {
        "name": shown(plan.name), "place": shown(str(plan.path)), "part": shown(", ".join(plan.parts)),
        "files": count, "bytes": size, "freed": freed,
    }  # fmt: skip
    events.try_append(("reclaim", facts))
    return ReclaimResult(
        name=plan.name,
        what=plan.what,
        path=plan.path,
        in_use_path=plan.in_use_path,
        parts=plan.parts,
        deleted_count=count,
        deleted_bytes=size,
        freed_bytes=freed,
        disk_bytes=plan.disk_bytes,
        why_less=_why_less(plan, freed),
        to_trash=plan.options.trash,
        kept_files=(*plan.kept_files, *stays),
        kept_path=rest,
        outside_paths=plan.outside_paths,
        checked_labels=tuple(copy.label for copy in plan.copies if copy.counts),
        drilled_label=next((copy.label for copy in plan.copies if copy.drilled_at is not None), ""),
        restore_command=plan.restore_command,
        findings=tuple(f for f in plan.findings if f.severity == "warning"),
        seconds=time.monotonic() - begun,
    )


def _facts(plan: ReclaimPlan) -> dict[str, str]:
    from dunechest.ledger.ledger import open_ledger

    with open_ledger() as ledger:
        known = next((aside for aside in ledger.asides() if aside.path == str(plan.path)), None)
    if known is None:
        return {}
    from dunechest.names import to_line

    return {"id": known.id, "name": known.name, "old": to_line(known.old), "listing": known.listing}


def _why_less(plan: ReclaimPlan, freed: int) -> str:
    """Say why the disk has not just as much more room as the files took, as far as that can be told; empty if none did."""
    if freed > plan.disk_bytes * 1.1 + (1 << 20):
        return "that is more than these files took: something else on the disk was deleted at the same time"
    if plan.options.trash and freed < plan.disk_bytes * 0.9:
        return "it is in the trash: empty the trash to free the space"
    if freed >= plan.disk_bytes * 0.9 - (1 << 20):
        named = any(finding.code == "hard-links" for finding in plan.findings)
        return "some of the files have other names on the disk, which keep their content" if named else ""
    try:
        kind = filesystem(plan.path.parent).type
    except OSError:
        kind = ""
    if kind in _WITH_SNAPSHOTS:
        return "snapshots of the disk may still hold it; they give the space back when they are deleted"
    return "something else may have written to the disk meanwhile, or a snapshot or an open file still holds it"
