"""What each command's document has beside the envelope: values as they are declared, and lists of them."""

from __future__ import annotations

from typing import Any, NamedTuple

import msgspec

from dunechest.chest.chest import Chest
from dunechest.library.draft.compose import Draft
from dunechest.library.draft.trying import TriedKind
from dunechest.library.kinds.own import AddedKind
from dunechest.model.archive import ArchivePlan, ArchiveResult
from dunechest.model.chests import ChestContents, ChestList, ChestStatus, MetComputer
from dunechest.model.compare import ChestComparison, Comparison
from dunechest.model.copy import CopyPlan, CopyResult, Costs
from dunechest.model.drill import Drill
from dunechest.model.editions import DropPlan, EditionList
from dunechest.model.homes import Home
from dunechest.model.look import FindResult, Readiness, Watched
from dunechest.model.mend import MendPlan, MendResult
from dunechest.model.office import ComputerAdded, Joined, Left, Office, OfficeMade, Sent
from dunechest.model.overview import Overview, SearchResult, Status
from dunechest.model.reclaim import ReclaimPlan, ReclaimResult
from dunechest.model.rehome import PartMovePlan, RehomePlan, RehomeResult, RejoinPlan, RejoinResult
from dunechest.model.release import ReleaseResult
from dunechest.model.restore import LeftBehind, MappedPlace, Offer, RestorePlan, RestoreResult
from dunechest.model.routine import RoutineInstallation, RoutineRun, RoutineState, WaitingRoutine
from dunechest.model.undo import UndoResult
from dunechest.model.verify import VerifyResult


class Body(msgspec.Struct, frozen=True):
    """What a command's document has: all of a value, if it tells one, and fields of its own with their types.

    `maybe` are fields that only some runs of the command have.
    """

    about: str
    value: type | None = None
    fields: dict[str, Any] = {}
    maybe: tuple[str, ...] = ()


class DemoStep(NamedTuple):
    """One step of the tour: the command, the status it ended with, and its own document or text."""

    about: str
    computer: str
    command: tuple[str, ...]
    status: int
    as_expected: bool
    output: Any
    seconds: float


class ForgottenLibrary(NamedTuple):
    """A library that is no longer expected in a chest."""

    name: str


def _list(kind: Any, about: str, **fields: Any) -> Body:
    return Body(about, None, {"libraries": tuple[kind, ...], **fields})


_KINDS = tuple[dict[str, Any], ...]
_RELEASED = {"released_drives": tuple[ReleaseResult, ...]}
_MADE = Body("A chest that was made, or whose own record was.", None, {"made_at": str})
_KNOWN = Body("One chest that this computer knows.", None, {"chests": tuple[ChestStatus, ...]})
_COMPUTERS = Body("The computers that were met.", None, {"computers": tuple[MetComputer, ...]})
_DROPPED = _list(DropPlan, "What was dropped, or with `done` false what would be.", done=bool)

#: By the document's name.
BODIES: dict[str, Body | None] = {
    "find": Body("What was found, and where it was searched.", FindResult),
    "look": _list(Readiness, "One library that was looked at."),
    "look-watch": _list(Watched, "One library as it was last seen."),
    "kinds-list": Body(
        "All kinds, each as its kind file says, and the folder of a person's own kind files.",
        None,
        {"kinds": _KINDS, "own_folder": str},
    ),
    "kinds-show": Body("One kind, as its kind file says.", None, {"kinds": _KINDS}),
    "kinds-draft": Body(
        "The draft of a kind file; `file` is where it was written, if anywhere.",
        Draft,
        {"file": str | None},
        ("file",),
    ),
    "kinds-check": Body(
        "Whether a kind file is valid, and its mistakes if not.",
        None,
        {"file": str, "kind": str | None, "mistakes": tuple[str, ...]},
    ),
    "kinds-try": Body("What each line of a kind file matches in a folder.", TriedKind),
    "kinds-add": Body("A kind that is known on this computer now; `instead_of` says what it overrides.", AddedKind),
    "chest-new": _MADE,
    "chest-list": Body("The chests, those that are connected first.", ChestList),
    "chest-show": Body("What a chest holds.", ChestContents),
    "chest-rename": Body("A chest that has another label now.", None, {"former_label": str}),
    "chest-place": _KNOWN,
    "chest-retire": _KNOWN,
    "chest-new-id": _MADE,
    "chest-rebuild": _MADE,
    "chest-forget": _list(ForgottenLibrary, "What is no longer expected."),
    "archive": Body(
        "The libraries that were archived.",
        None,
        {"libraries": tuple[ArchiveResult, ...], **_RELEASED},
        ("released_drives",),
    ),
    "archive-plan": _list(ArchivePlan, "What archiving would do, and whether it would be refused.", would_run=bool),
    "copy": Body(
        "The libraries that were copied, and the chest that they were copied to.",
        None,
        {"libraries": tuple[CopyResult, ...], "target": Chest, **_RELEASED},
        ("released_drives",),
    ),
    "copy-plan": _list(
        CopyPlan,
        "What copying would do, and whether it would be refused; `costs` is null if the target is on a drive.",
        target=Chest,
        would_run=bool,
        costs=Costs | None,
    ),
    "status": Body("How well each library is protected, what to do next, and the chests that are expected.", Status),
    "report": Body(
        "All that a report shows; `path` is the page that was written, null if none was.",
        Overview,
        {"path": str | None},
        ("path",),
    ),
    "verify": Body("What verification says of a chest or bag.", VerifyResult, _RELEASED, ("released_drives",)),
    "editions-list": _list(EditionList, "The editions of one library."),
    "editions-drop": _DROPPED,
    "mend": Body(
        "The libraries that were mended.",
        None,
        {"libraries": tuple[MendResult, ...], **_RELEASED},
        ("released_drives",),
    ),
    "mend-plan": _list(MendPlan, "What is damaged, and could be mended."),
    "search": Body("The files that were found, and how many files of how many chests were searched.", SearchResult),
    "restore": _list(RestoreResult, "The libraries that were restored.", left_behind=tuple[LeftBehind, ...]),
    "restore-list": _list(Offer, "What a chest holds that can be restored.", left_behind=tuple[LeftBehind, ...]),
    "restore-plan": _list(
        RestorePlan,
        "What restoring would do; `saved_plan` is what ``--apply-plan`` reads.",
        left_behind=tuple[LeftBehind, ...],
        would_run=bool,
        saved_plan=dict[str, Any],
    ),
    "drill": _list(Drill, "The libraries that were drilled."),
    "rehome": _list(
        RehomeResult,
        "What was moved; `reclaimed_libraries` says how much room it made, where the original was deleted as well.",
        reclaimed_libraries=tuple[ReclaimResult, ...],
    ),
    "rehome-plan": _list(RehomePlan, "What moving would do."),
    "rehome-part-plan": _list(PartMovePlan, "What moving parts would do."),
    "rehome-forget": _list(Home, "The moved libraries that are not expected any more."),
    "rejoin": _list(RejoinResult, "What was rejoined."),
    "rejoin-plan": _list(RejoinPlan, "What rejoining would do."),
    "reclaim": _list(ReclaimResult, "What was deleted."),
    "reclaim-plan": _list(ReclaimPlan, "What would be deleted."),
    "routine-add": Body("The routine that was, or would be, added.", None, {"installation": RoutineInstallation}),
    "routine-list": Body("All routines.", None, {"routines": tuple[RoutineState, ...]}),
    "routine-run": Body(
        "The routines that ran, and those that wait; `busy` if another process was running them already.",
        None,
        {"runs": tuple[RoutineRun, ...], "waiting_routines": tuple[WaitingRoutine, ...], "busy": bool},
    ),
    "routine-remove": Body(
        "The routine that was removed, and what was removed of it.",
        None,
        {"name": str, "removed_items": tuple[str, ...]},
    ),
    "office-set-up": Body("An office's ledger that was made or brought up to date.", OfficeMade),
    "office-add": Body("A computer that was let in.", ComputerAdded),
    "office-remove": Body("A computer that was shut out.", None, {"name": str}),
    "office-join": Body("An office that was joined, and what was sent to it.", Joined),
    "office-leave": Body("An office that was left.", Left),
    "office-send": Body("What was sent to the office.", Sent),
    "office-show": Body("An office, and its computers.", Office),
    "release": Body("The drives that were to be released.", None, _RELEASED),
    "undo": Body("What was undone, or with `done` false what would be; `changed_since` forbids it.", UndoResult),
    "compare": Body("What two places have in common, and what not.", Comparison),
    "compare-chests": Body("What two chests have in common, and what not.", ChestComparison),
    "computers-list": _COMPUTERS,
    "computers-mine": _COMPUTERS,
    "computers-not-mine": _COMPUTERS,
    "places-list": Body("The folders that are remembered.", None, {"places": tuple[MappedPlace, ...]}),
    "places-forget": Body("The folders that are no longer remembered.", None, {"places": tuple[MappedPlace, ...]}),
    "demo": Body("The tour on sample data.", None, {"folder": str, "steps": tuple[DemoStep, ...]}),
    "error": None,
}
