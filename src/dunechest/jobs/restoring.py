"""Carry out a restore plan: every file checked by digest as it is written, nothing existing lost.

The library is put together in a folder of its own beside its place, its references written anew there,
and put in its place when it is whole, so that an application never meets half of it. Each step that changes
what was on this machine is written down before it is taken; a restore that fails is taken back.
"""

from __future__ import annotations

import os
import shutil
import time
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from dunechest.chest.bag_records import stamp
from dunechest.chest.layout import BAGS, CHEST_RECORD, DECLARATION, bag_folder
from dunechest.chest.tag_lists import RecordFault
from dunechest.errors import CutOff, Meanwhile, Refused
from dunechest.findings import Finding, stops
from dunechest.jobs import placing, restore_staging, strays_restoring, undoing
from dunechest.jobs.anew import Anew, make_above, write_references, write_setting
from dunechest.jobs.joins import Brought, join_files, only_those
from dunechest.jobs.proof import Proof, prove
from dunechest.jobs.repointing import ByHand, Repoint, SettingChange
from dunechest.jobs.restore import RestorePlan
from dunechest.jobs.restore_contents import NotDone, RestoreFile
from dunechest.ledger import deeds, events
from dunechest.library.kinds.patterns import Patterns
from dunechest.names import shown, to_wire
from dunechest.progress import Progress, silent
from dunechest.transfer.digest_files import digest_files
from dunechest.transfer.owner import give, owner_above
from dunechest.transfer.tasks import DigestTask

if TYPE_CHECKING:
    import pandas as pd


@dataclass(frozen=True, slots=True)
class RestoreResult:
    """The account of a restore.

    `files` and `bytes` are in place and proven, `same` of them were there already; `kept` were left as they
    are here though the chest has other bytes, and `beside` came under another name; `not_done` lists everything
    of the archive that was not brought back, with the reason; `renamed` what has another name here;
    `application` what keeps such a library, if that is known; `strays` says of each file from
    outside the library where it was and where it is now. `set_aside` are old and new places of what was in the way.
    `anew` are references written anew, `by_hand` those that a person has to look at, `settings` what was written
    of the application's, each with the reason if it was not. `brought` is what joining brought; `proof` what the library
    was and is; `damage` what is not proven of the archive's records. `undoable` says whether anything
    was done that could be taken back.
    """

    bag: str
    place: Path
    edition: int
    files_listed: int
    files: int
    bytes: int
    same: int
    kept: tuple[str, ...]
    beside: tuple[tuple[str, str], ...]
    replaced: tuple[str, ...]
    folders: int
    links: int
    not_done: tuple[NotDone, ...]
    renamed: tuple[tuple[str, str], ...]
    application: str
    seconds: float
    findings: tuple[Finding, ...]
    proof: Proof
    parts: tuple[str, ...] = ()
    strays: tuple[tuple[str, Path], ...] = ()
    set_aside: tuple[tuple[Path, Path], ...] = ()
    anew: tuple[Repoint, ...] = ()
    by_hand: tuple[ByHand, ...] = ()
    settings: tuple[tuple[SettingChange, str], ...] = ()
    brought: tuple[Brought, ...] = ()
    damage: tuple[RecordFault, ...] = ()
    undoable: bool = True

    @property
    def well(self) -> bool:
        """Whether everything that could be brought back was, no damage was met, and it is what it was."""
        return not any(one.fault for one in self.not_done) and not self.damage and self.proof.well

    def to_frame(self) -> pd.DataFrame:
        """Return one row for each thing not brought back: path, why, fault."""
        import pandas as pd

        return pd.DataFrame(
            [{"path": shown(n.path), "why": n.why, "fault": n.fault} for n in self.not_done],
            columns=["path", "why", "fault"],
        )


def refuse_if_stopped(plans: Iterable[RestorePlan]) -> None:
    """Raise `Refused` if any plan has a *stop* finding; none of a restore yields."""
    remaining = [finding for plan in plans for finding in stops(plan.findings)]
    if remaining:
        raise Refused("Nothing was restored.", remaining)


def carry_out(
    plan: RestorePlan, *, progress: Progress = silent, rehearsal: bool = False, command: str = ""
) -> RestoreResult:
    """Restore the library of a plan.

    Parameters
    ----------
    plan : RestorePlan
        From `plan_restore`.
    progress : Progress
        Told how far it is.
    rehearsal : bool
        It goes to a scratch folder and is thrown away: that the application is open does not matter, and
        nothing of it is there to be taken back afterwards.
    command : str
        Something that all restores of one command have in common: they are taken back together.

    Returns
    -------
    RestoreResult

    Raises
    ------
    Refused
        If a *stop* finding remains, or the place is occupied by now.
    Meanwhile
        If the archive got another edition since the plan was made.
    CutOff
        If the target or the chest's drive is full, gone or failing; what was done by then
        is taken back.
    """
    if not rehearsal:
        refuse_if_stopped([plan])
    assert plan.place is not None
    if stamp(_bag(plan)) != plan.stamp:
        raise _changed(plan)
    begun = time.monotonic()
    staging = plan.place.parent / f".dune-restore-{plan.chest.id[:8]}-{plan.bag}"
    if os.path.ismount(plan.place):  # the top of a drive: what is beside it lies on another one
        staging = plan.place / f".dune-restore-{plan.chest.id[:8]}-{plan.bag}"
    # Only what this run has made, or taken over by its mark, is ever removed again.
    restore_staging.take_staging(staging, plan)
    deed = deeds.begin("restore", plan.bag, to_wire(str(plan.place)), command)
    try:
        result = _carry_out(plan, staging, deed, begun, progress)
    except OSError as error:
        _give_up(staging, deed)
        raise CutOff(
            f"The restore of {shown(plan.bag)} was cut off: {error.strerror or error}. What it had done is taken back, "
            f"and {shown(str(plan.place))} is as it was; the same command begins again."
        ) from error
    except BaseException:
        _give_up(staging, deed)
        raise
    deed.close("taken back" if rehearsal else "done")
    if rehearsal:
        deeds.forget(deed.number)
        return result
    # The files are in place; without this only this machine's memory of it is missing.
    facts = {"chest": plan.chest.id, "bag": plan.bag, "place": shown(str(plan.place)), "files": result.files}
    events.try_append(("restore", facts))
    return result


def _bag(plan: RestorePlan) -> Path:
    return bag_folder(plan.chest.folder, plan.bag)


def _changed(plan: RestorePlan) -> Meanwhile:
    return Meanwhile(
        f"The archive of {shown(plan.bag)} was changed while it was read. Nothing was changed here; run the command again."
    )


def _refuse_half(plan: RestorePlan, not_done: Iterable[NotDone]) -> None:
    """Before anything is put in place: tell a drive that went away, or a new edition, from damage.

    Raises
    ------
    CutOff
        If the chest's drive is gone.
    Meanwhile
        If the archive was changed meanwhile.
    """
    if not any(one.fault for one in not_done):
        return
    if stamp(_bag(plan)) != plan.stamp:
        if not (plan.chest.folder / BAGS).is_dir():
            raise CutOff(_GONE.format(shown(plan.chest.label)))
        raise _changed(plan)
    # What is still in memory proves nothing: a small record is read from the medium.
    records = [plan.chest.folder / CHEST_RECORD, _bag(plan) / DECLARATION]
    there = [path for path in records if os.path.lexists(path)]
    outcomes = digest_files([DigestTask(os.fsencode(path), 4096) for path in there], lambda count: None)
    if not there or all(outcome.state != "ok" for outcome in outcomes):
        raise CutOff(_GONE.format(shown(plan.chest.label)))


_GONE = "The drive of the chest {} went away, or can no longer be read."


def _give_up(staging: Path, deed: deeds.OpenDeed) -> None:
    """Take back what was done, and remove the folder to work in."""
    restore_staging.remove(staging)
    known = next((one for one in deeds.deeds() if one.number == deed.number), None)
    try:
        if known is not None:
            undoing.take_back(known)
    except OSError:
        pass  # a drive that is gone: the next command that restores or takes back finishes this


def _carry_out(
    plan: RestorePlan, staging: Path, deed: deeds.OpenDeed, begun: float, progress: Progress
) -> RestoreResult:
    place, meeting = plan.place, plan.meeting
    assert place is not None
    owner = owner_above(place)
    make_above(place.parent, deed)
    deed.will(deeds.Working(to_wire(str(staging))))
    restore_staging.fill_staging(staging, plan)
    tree = staging / "tree"
    not_done = list(plan.not_done)
    restored = restore_staging.write(plan, tree, not_done, progress)
    _refuse_half(plan, not_done)
    staged = _staged(plan, tree, restored)
    names = {file.own: file.path for file in plan.files}
    others = {file.own: other for file, other in meeting.beside}

    def final(own: str) -> Path:
        return place if plan.record.shape == "file" else place / others.get(own, names[own])

    joined_paths = {file.own for file in meeting.joined}
    brought: tuple[Brought, ...] = ()
    if plan.parts and meeting.mode != "join":
        brought = tuple(only_those(plan, staged))
    anew = write_references(plan.kind, plan.references.anew, staged.get, final, deed)
    if meeting.mode == "join":
        brought = join_files(plan, place, tree, staging, staged)
        joined = {one.path: one.staged for one in brought if one.staged is not None}
        # A file that is joined or replaced is kept as it was here, not as it came.
        others_kept = {to_wire(str(final(own))) for own in (*joined_paths, *(f.own for f in meeting.replaced))}
        links = len(plan.links)
        plain = [file for file in restored if file.own not in joined_paths]
        placing.join_into_place(plan, tree, plain, joined, deed, not_done)
        restore_staging.dress_unreadable(plain, place.joinpath)
        deed.will(*(step for step in anew.steps if step.path not in others_kept))
        untouched = {one.path for one in brought if one.staged is None}
        done = tuple(one for one in anew.done if names[one.source] not in untouched)
        anew = _and(Anew(done, anew.by_hand, anew.steps), _in_place(plan, place, staging, deed))
    else:
        links = restore_staging.finish(plan, tree, restored, not_done)
        placing.whole_into_place(plan, tree, anew.steps, deed)
    restore_staging.remove(staging)
    strays = strays_restoring.restore_strays(plan, not_done, deed)
    settings = tuple((change, write_setting(change, deed)) for change in plan.settings)
    give(owner, deed.places)  # run by the administrator, it is for the person whose home it is
    there_now = set(restored) if meeting.replaced else set()
    there = [*meeting.same, *meeting.anew_already, *meeting.kept]
    proof = prove(plan, place, files=len(restored) + len(there), strays=len(strays))
    return RestoreResult(
        bag=plan.bag,
        place=place,
        edition=plan.record.edition,
        files_listed=plan.listed,
        files=len(restored) + len(meeting.same) + len(meeting.anew_already) + len(strays),
        bytes=sum(f.size for f in (*restored, *meeting.same, *meeting.anew_already))
        + sum(s.file.size for s in strays),
        same=len(meeting.same) + len(meeting.anew_already) + sum(stray.there for stray in strays),
        kept=tuple(file.path for file in meeting.kept),
        beside=tuple((file.path, other) for file, other in meeting.beside),
        replaced=tuple(file.path for file in meeting.replaced if file in there_now),
        folders=len(plan.folders),
        links=links,
        not_done=tuple(not_done),
        renamed=plan.renamed,
        application=plan.record.application,
        seconds=time.monotonic() - begun,
        # What was to be done or decided before is no news afterwards.
        findings=tuple(f for f in plan.findings if f.code not in ("first", "set-aside", "references-lost")),
        proof=proof,
        parts=tuple(part.title for part in plan.parts),
        strays=tuple((stray.origin, stray.place) for stray in strays),
        set_aside=tuple(meeting.set_aside),
        anew=anew.done,
        by_hand=(*plan.references.lost, *anew.by_hand),
        settings=settings,
        brought=brought,
        damage=plan.damage,
        undoable=deed.changes,
    )


def _staged(plan: RestorePlan, tree: Path, restored: list[RestoreFile]) -> dict[str, Path]:
    """Return where the files are that something is done to: with references to write, or to be joined."""
    wanted = {one.source for one in plan.references.anew} | {file.own for file in plan.meeting.joined}
    joins = Patterns(tuple(pattern for spec in plan.kind.joins for pattern in spec.files) if plan.parts else ())
    return {file.own: tree / file.path for file in restored if file.own in wanted or joins.match(file.own)}


def _and(one: Anew, other: Anew) -> Anew:
    return Anew((*one.done, *other.done), (*one.by_hand, *other.by_hand), (*one.steps, *other.steps))


def _in_place(plan: RestorePlan, place: Path, staging: Path, deed: deeds.OpenDeed) -> Anew:
    """Write references anew in files that were here already, as they came from the other machine."""
    same = {file.own: place / file.path for file in plan.meeting.same}
    wanted = [one for one in plan.references.anew if one.source in same]
    by_source = {one.source for one in wanted}
    before: dict[str, Path] = {}
    for source in by_source:
        copy = staging / f"anew-{len(before)}"
        shutil.copy2(same[source], copy)
        before[source] = copy
    try:
        made = write_references(plan.kind, wanted, before.get, same.__getitem__, deed)
        deed.will(*made.steps)
        for source, copy in before.items():
            os.replace(copy, same[source])
    finally:
        for copy in before.values():
            copy.unlink(missing_ok=True)
    return made
