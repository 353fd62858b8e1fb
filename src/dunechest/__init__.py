"""Dune Chest: archive application libraries to external drives, verify the copies, restore them.

The public interface. Everything is loaded when it is first used, so that
``import dunechest`` costs next to nothing. For each job there is ``plan_x()``, which decides and changes nothing,
`carry_out`, which does what a plan says, and ``x()`` for both in one call.

Examples
--------
>>> import dunechest, pathlib, tempfile
>>> home, drive = pathlib.Path(tempfile.mkdtemp()), tempfile.mkdtemp()
>>> _ = (home / "notes.txt").write_text("spring tide at noon")
>>> chest = dunechest.create_chest(drive, "blue")
>>> (result,) = dunechest.archive(home, chest)
>>> result.archived_count
1
>>> dunechest.verify(chest).ok
True
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from dunechest.bag.bag import Lying
    from dunechest.chest.bag_entry import BagEntry
    from dunechest.chest.bag_records import BagRecords
    from dunechest.chest.chest import Chest
    from dunechest.chest.edition_totals import EditionTotals
    from dunechest.chest.file_table import FileTable, Proven
    from dunechest.chest.records import (
        AttributeRecord,
        CapturedDatabase,
        CarriedRecord,
        ChangeCounts,
        ChangedName,
        FileRecord,
        FolderRecord,
        LeftOut,
        LibraryRecord,
        LinkRecord,
        Origin,
        OutsideFileRecord,
        OwnerRecord,
        PartRecord,
        PlaceRecord,
        ReferenceCounts,
        ReferenceRecord,
        SparseRecord,
        Totals,
    )
    from dunechest.chest.tag_lists import RecordFault, Tag, TagLists
    from dunechest.errors import (
        BagUnusableError,
        ChangedMeanwhileError,
        ChestBusyError,
        ChestUnusableError,
        CutOffError,
        DuneChestError,
        KindFileError,
        LeaseLostError,
        NotConnectedError,
        OfficeError,
        OfficeUnreachableError,
        PackageMissingError,
        RecordDamagedError,
        RefusedError,
        ServerError,
        UsageError,
    )
    from dunechest.findings import Finding
    from dunechest.jobs.archive.lesser import NotHeld
    from dunechest.jobs.archive.options import ArchiveOptions
    from dunechest.jobs.archive.plan import (
        ArchivePlan,
        Attributes,
        CarriedFile,
        Difference,
        PlannedDatabase,
        PlannedFile,
    )
    from dunechest.jobs.archive.planning.make import plan_archive
    from dunechest.jobs.archive.result import ArchiveResult
    from dunechest.jobs.archive.several import archive
    from dunechest.jobs.carry_out import carry_out
    from dunechest.jobs.chest_changes import new_chest_id, rename_chest, retire_chest, set_chest_place
    from dunechest.jobs.chests import ChestContents, create_chest, forget_library, rebuild_chest, show_chest
    from dunechest.jobs.compare.by_bytes import compare
    from dunechest.jobs.compare.chests import ChestComparison, LibraryComparison, compare_chests
    from dunechest.jobs.compare.result import Comparison, Mismatch
    from dunechest.jobs.computers import MetComputer, list_computers, say_computer
    from dunechest.jobs.copy import copy_chest
    from dunechest.jobs.copy.plan import BagChange, CopyPlan, FileToCopy
    from dunechest.jobs.copy.planning.make import plan_copy
    from dunechest.jobs.copy.result import CopyResult
    from dunechest.jobs.copy.traffic import Costs, Traffic, costs_of
    from dunechest.jobs.drill import Drill, drill
    from dunechest.jobs.editions import drop_editions
    from dunechest.jobs.editions.listing import Change, Edition, EditionList, list_editions
    from dunechest.jobs.editions.plan import DropPlan
    from dunechest.jobs.editions.planning import plan_drop
    from dunechest.jobs.editions.result import DropResult
    from dunechest.jobs.find import FindResult, FoundDrive, FoundLibrary, find_libraries
    from dunechest.jobs.homes import Home, NewLibrary, list_homes
    from dunechest.jobs.known import OfficeSeen
    from dunechest.jobs.known_chests import ChestList, ChestStatus, list_chests
    from dunechest.jobs.look import BigThing, DriveFit, Readiness, look
    from dunechest.jobs.loose import LooseFolder, ignore_place, ignored_places
    from dunechest.jobs.mend import mend
    from dunechest.jobs.mend.plan import FileToMend, MendPlan
    from dunechest.jobs.mend.planning.make import plan_mend
    from dunechest.jobs.mend.result import MendResult
    from dunechest.jobs.named import get_chest, get_library, library_at
    from dunechest.jobs.office.exchange import Sent, send_to_office
    from dunechest.jobs.office.join import Joined, Left, join_office, leave_office
    from dunechest.jobs.office.look_after import (
        ComputerAdded,
        OfficeMade,
        add_office_computer,
        remove_office_computer,
        set_up_office,
    )
    from dunechest.jobs.office.show import Office, OfficeComputer, show_office
    from dunechest.jobs.overview import DriveRoom, LibraryHistory, Overview, overview
    from dunechest.jobs.protection import Protection
    from dunechest.jobs.reclaim import plan_reclaim, reclaim
    from dunechest.jobs.reclaim.options import ReclaimOptions
    from dunechest.jobs.reclaim.plan import Evidence, ReclaimPlan
    from dunechest.jobs.reclaim.result import ReclaimResult
    from dunechest.jobs.rehome import (
        forget_home,
        plan_rehome,
        plan_rehome_back,
        plan_rehome_parts,
        plan_rejoin,
        rehome,
        rehome_back,
        rejoin,
    )
    from dunechest.jobs.rehome.options import RehomeOptions
    from dunechest.jobs.rehome.plan import OutsideMove, PartMovePlan, RehomePlan, RejoinPlan
    from dunechest.jobs.rehome.result import RehomeResult, RejoinResult
    from dunechest.jobs.release import DriveUser, ReleaseResult, release
    from dunechest.jobs.restore import restore, restore_several
    from dunechest.jobs.restore.options import RestoreOptions
    from dunechest.jobs.restore.places_map import MappedPlace, forget_place, mapped_places, remember_place
    from dunechest.jobs.restore.plan import (
        AsArchived,
        ByHand,
        Existing,
        NotDone,
        Placement,
        ReferencePlan,
        Repoint,
        RestoreFile,
        RestoreOutsideFile,
        RestorePlan,
        SettingChange,
        Target,
    )
    from dunechest.jobs.restore.planning.make import plan_restore
    from dunechest.jobs.restore.planning.offers import Offer, offers
    from dunechest.jobs.restore.planning.saved_plan import SavedPlan, plan_as_saved, saved_plan
    from dunechest.jobs.restore.planning.several import left_behind, plan_restores, restorable
    from dunechest.jobs.restore.result import Compared, MergeResult, Proof, RestoreResult
    from dunechest.jobs.routine import RoutineState, list_routines, run_due, run_routine
    from dunechest.jobs.routine.file import routine_log
    from dunechest.jobs.routine.install import RoutineInstallation, add_routine, plan_routine, remove_routine
    from dunechest.jobs.routine.options import RoutineOptions
    from dunechest.jobs.routine.result import DueRuns, RoutineRun, RoutineStep
    from dunechest.jobs.routine.routine import Routine, RoutineChest, RoutineLibrary
    from dunechest.jobs.safety import Copy, NextStep, ProtectedLibrary, Unprotected
    from dunechest.jobs.search import FoundCopy, FoundFile, SearchOptions, SearchResult, search
    from dunechest.jobs.servers import remember_server
    from dunechest.jobs.status import Status, status
    from dunechest.jobs.study.choice import Choice, LeftOutFile
    from dunechest.jobs.study.contents import Contents
    from dunechest.jobs.study.drive import Drive
    from dunechest.jobs.study.room import Room
    from dunechest.jobs.study.selection import OutsideFile, Selection
    from dunechest.jobs.study.take_out import TakeOut
    from dunechest.jobs.undo import undo
    from dunechest.jobs.undo.plan import UndoAction, UndoPlan
    from dunechest.jobs.undo.planning import plan_undo
    from dunechest.jobs.undo.recover import cut_off, recover
    from dunechest.jobs.undo.result import UndoResult
    from dunechest.jobs.verify import verify
    from dunechest.jobs.verify.result import BagCheck, FileState, VerifyResult
    from dunechest.jobs.watch import Watched, watch
    from dunechest.ledger.catalogue_rows import PastEdition, PastRole
    from dunechest.ledger.deeds import (
        Aside,
        ChangedLink,
        Deed,
        Head,
        Made,
        MadeFolder,
        MadeLink,
        NotMade,
        Removing,
        Rewritten,
        Swapped,
        Tree,
        WasEmpty,
        Working,
    )
    from dunechest.ledger.ledger import PastCheck, PastDrill, PastHome
    from dunechest.library.draft.compose import Draft, draft_kind
    from dunechest.library.draft.observing import Observation
    from dunechest.library.draft.trying import TriedKind, TriedLine, try_kind
    from dunechest.library.in_use import Use
    from dunechest.library.kinds.load import list_kinds, read_kind
    from dunechest.library.kinds.own import AddedKind, add_kind
    from dunechest.library.kinds.schema import (
        Agreement,
        Elsewhere,
        InUse,
        Joins,
        JoinTable,
        Kind,
        Parts,
        References,
        Roles,
        Setting,
        Sign,
    )
    from dunechest.library.library import Library
    from dunechest.library.parts import Part
    from dunechest.library.recognise import Recognised
    from dunechest.library.references.reading import Reference, ReferenceReport
    from dunechest.library.roles import RoleTotal
    from dunechest.library.search import UnknownFolder
    from dunechest.library.still_named import OldPlace, StillNamed
    from dunechest.machine.drives import Filesystem, Limits
    from dunechest.machine.probe import Probed
    from dunechest.names import RawName
    from dunechest.progress import Progress, Step
    from dunechest.report import write_report
    from dunechest.transfer.walk import FileEntry, FolderEntry, LinkEntry, OtherEntry, Walk

#: Where each public name is defined; it is loaded when it is first used.
_MODULES = {
    "bag.bag": ("Lying",),
    "chest.bag_entry": ("BagEntry",),
    "chest.bag_records": ("BagRecords",),
    "chest.chest": ("Chest",),
    "chest.edition_totals": ("EditionTotals",),
    "chest.file_table": ("FileTable", "Proven"),
    "chest.records": (
        "AttributeRecord",
        "CapturedDatabase",
        "CarriedRecord",
        "ChangeCounts",
        "ChangedName",
        "FileRecord",
        "FolderRecord",
        "LeftOut",
        "LibraryRecord",
        "LinkRecord",
        "Origin",
        "OwnerRecord",
        "PartRecord",
        "PlaceRecord",
        "ReferenceCounts",
        "ReferenceRecord",
        "OutsideFileRecord",
        "SparseRecord",
        "Totals",
    ),
    "chest.tag_lists": ("RecordFault", "Tag", "TagLists"),
    "errors": (
        "BagUnusableError",
        "ChangedMeanwhileError",
        "ChestBusyError",
        "ChestUnusableError",
        "CutOffError",
        "DuneChestError",
        "KindFileError",
        "LeaseLostError",
        "NotConnectedError",
        "OfficeError",
        "OfficeUnreachableError",
        "PackageMissingError",
        "RecordDamagedError",
        "RefusedError",
        "ServerError",
        "UsageError",
    ),
    "findings": ("Finding",),
    "jobs.archive.options": ("ArchiveOptions",),
    "jobs.archive.lesser": ("NotHeld",),
    "jobs.archive.plan": ("ArchivePlan", "Attributes", "CarriedFile", "Difference", "PlannedDatabase", "PlannedFile"),
    "jobs.archive.planning.make": ("plan_archive",),
    "jobs.archive.result": ("ArchiveResult",),
    "jobs.archive.several": ("archive",),
    "jobs.carry_out": ("carry_out",),
    "jobs.overview": ("DriveRoom", "LibraryHistory", "Overview", "overview"),
    "jobs.protection": ("Protection",),
    "jobs.search": ("FoundCopy", "FoundFile", "SearchOptions", "SearchResult", "search"),
    "jobs.homes": (
        "Home",
        "NewLibrary",
        "list_homes",
    ),
    "jobs.rehome": (
        "forget_home",
        "plan_rehome",
        "plan_rehome_back",
        "plan_rehome_parts",
        "plan_rejoin",
        "rehome",
        "rehome_back",
        "rejoin",
    ),
    "jobs.rehome.options": ("RehomeOptions",),
    "jobs.rehome.plan": (
        "OutsideMove",
        "PartMovePlan",
        "RehomePlan",
        "RejoinPlan",
    ),
    "jobs.rehome.result": (
        "RehomeResult",
        "RejoinResult",
    ),
    "jobs.reclaim": (
        "plan_reclaim",
        "reclaim",
    ),
    "jobs.reclaim.options": ("ReclaimOptions",),
    "jobs.reclaim.plan": (
        "Evidence",
        "ReclaimPlan",
    ),
    "jobs.reclaim.result": ("ReclaimResult",),
    "jobs.release": ("DriveUser", "ReleaseResult", "release"),
    "jobs.routine": ("RoutineState", "list_routines", "run_due", "run_routine"),
    "jobs.routine.file": ("routine_log",),
    "jobs.routine.install": ("RoutineInstallation", "add_routine", "plan_routine", "remove_routine"),
    "jobs.routine.options": ("RoutineOptions",),
    "jobs.routine.result": ("DueRuns", "RoutineRun", "RoutineStep"),
    "jobs.routine.routine": ("Routine", "RoutineChest", "RoutineLibrary"),
    "jobs.study.take_out": ("TakeOut",),
    "jobs.safety": ("Copy", "NextStep", "ProtectedLibrary", "Unprotected"),
    "jobs.status": ("Status", "status"),
    "jobs.chest_changes": ("new_chest_id", "rename_chest", "retire_chest", "set_chest_place"),
    "jobs.chests": ("ChestContents", "create_chest", "forget_library", "rebuild_chest", "show_chest"),
    "jobs.compare.by_bytes": ("compare",),
    "jobs.compare.chests": ("ChestComparison", "LibraryComparison", "compare_chests"),
    "jobs.compare.result": ("Comparison", "Mismatch"),
    "jobs.computers": ("MetComputer", "list_computers", "say_computer"),
    "jobs.copy": ("copy_chest",),
    "jobs.copy.plan": ("BagChange", "CopyPlan", "FileToCopy"),
    "jobs.copy.planning.make": ("plan_copy",),
    "jobs.copy.result": ("CopyResult",),
    "jobs.drill": ("Drill", "drill"),
    "jobs.editions": ("drop_editions",),
    "jobs.editions.listing": ("Change", "Edition", "EditionList", "list_editions"),
    "jobs.editions.plan": ("DropPlan",),
    "jobs.editions.planning": ("plan_drop",),
    "jobs.editions.result": ("DropResult",),
    "jobs.find": ("FindResult", "FoundDrive", "FoundLibrary", "find_libraries"),
    "jobs.office.exchange": (
        "Sent",
        "send_to_office",
    ),
    "jobs.office.join": (
        "Joined",
        "Left",
        "join_office",
        "leave_office",
    ),
    "jobs.office.look_after": (
        "ComputerAdded",
        "OfficeMade",
        "add_office_computer",
        "remove_office_computer",
        "set_up_office",
    ),
    "jobs.office.show": (
        "Office",
        "OfficeComputer",
        "show_office",
    ),
    "jobs.copy.traffic": ("Costs", "Traffic", "costs_of"),
    "jobs.servers": ("remember_server",),
    "jobs.known": ("OfficeSeen",),
    "jobs.known_chests": ("ChestList", "ChestStatus", "list_chests"),
    "jobs.look": ("BigThing", "DriveFit", "Readiness", "look"),
    "jobs.loose": ("LooseFolder", "ignore_place", "ignored_places"),
    "jobs.mend": ("mend",),
    "jobs.mend.plan": ("FileToMend", "MendPlan"),
    "jobs.mend.planning.make": ("plan_mend",),
    "jobs.mend.result": ("MendResult",),
    "jobs.named": ("get_chest", "get_library", "library_at"),
    "jobs.restore": ("restore", "restore_several"),
    "jobs.restore.options": ("RestoreOptions",),
    "jobs.restore.places_map": ("MappedPlace", "forget_place", "mapped_places", "remember_place"),
    "jobs.restore.plan": (
        "AsArchived",
        "ByHand",
        "Existing",
        "NotDone",
        "Placement",
        "ReferencePlan",
        "Repoint",
        "RestoreFile",
        "RestorePlan",
        "RestoreOutsideFile",
        "SettingChange",
        "Target",
    ),
    "jobs.restore.planning.make": ("plan_restore",),
    "jobs.restore.planning.offers": ("Offer", "offers"),
    "jobs.restore.planning.saved_plan": ("SavedPlan", "plan_as_saved", "saved_plan"),
    "jobs.restore.planning.several": ("left_behind", "plan_restores", "restorable"),
    "jobs.restore.result": ("Compared", "MergeResult", "Proof", "RestoreResult"),
    "jobs.study.contents": ("Contents",),
    "jobs.study.drive": ("Drive",),
    "jobs.study.room": ("Room",),
    "jobs.study.choice": ("Choice", "LeftOutFile"),
    "jobs.study.selection": ("Selection", "OutsideFile"),
    "jobs.undo": ("undo",),
    "jobs.undo.plan": ("UndoAction", "UndoPlan"),
    "jobs.undo.planning": ("plan_undo",),
    "jobs.undo.recover": ("cut_off", "recover"),
    "jobs.undo.result": ("UndoResult",),
    "jobs.verify": ("verify",),
    "jobs.verify.result": ("BagCheck", "FileState", "VerifyResult"),
    "jobs.watch": ("Watched", "watch"),
    "ledger.catalogue_rows": ("PastEdition", "PastRole"),
    "ledger.deeds": (
        "Aside",
        "ChangedLink",
        "Removing",
        "Swapped",
        "Deed",
        "Head",
        "Made",
        "MadeFolder",
        "MadeLink",
        "NotMade",
        "Rewritten",
        "Tree",
        "WasEmpty",
        "Working",
    ),
    "ledger.ledger": ("PastCheck", "PastDrill", "PastHome"),
    "library.draft.compose": ("Draft", "draft_kind"),
    "library.draft.observing": ("Observation",),
    "library.in_use": ("Use",),
    "library.draft.trying": ("TriedKind", "TriedLine", "try_kind"),
    "library.kinds.load": ("list_kinds", "read_kind"),
    "library.kinds.own": ("AddedKind", "add_kind"),
    "library.kinds.schema": (
        "Agreement",
        "Elsewhere",
        "InUse",
        "JoinTable",
        "Joins",
        "Kind",
        "Parts",
        "References",
        "Roles",
        "Setting",
        "Sign",
    ),
    "library.library": ("Library",),
    "library.parts": ("Part",),
    "library.recognise": ("Recognised",),
    "library.references.reading": ("Reference", "ReferenceReport"),
    "library.roles": ("RoleTotal",),
    "library.search": ("UnknownFolder",),
    "library.still_named": ("OldPlace", "StillNamed"),
    "machine.drives": ("Filesystem", "Limits"),
    "machine.probe": ("Probed",),
    "names": ("RawName",),
    "progress": ("Progress", "Step"),
    "report": ("write_report",),
    "transfer.walk": ("FileEntry", "FolderEntry", "LinkEntry", "OtherEntry", "Walk"),
}
_WHERE = {name: module for module, names in _MODULES.items() for name in names}

__version__: str

__all__ = [
    "AddedKind",
    "Agreement",
    "ArchiveOptions",
    "ArchivePlan",
    "ArchiveResult",
    "AsArchived",
    "Aside",
    "AttributeRecord",
    "Attributes",
    "BagChange",
    "BagCheck",
    "BagEntry",
    "BagRecords",
    "BagUnusableError",
    "BigThing",
    "ByHand",
    "CapturedDatabase",
    "CarriedFile",
    "CarriedRecord",
    "Change",
    "ChangeCounts",
    "ChangedLink",
    "ChangedMeanwhileError",
    "ChangedName",
    "Chest",
    "ChestBusyError",
    "ChestComparison",
    "ChestContents",
    "ChestList",
    "ChestStatus",
    "ChestUnusableError",
    "Choice",
    "Compared",
    "Comparison",
    "ComputerAdded",
    "Contents",
    "Copy",
    "CopyPlan",
    "CopyResult",
    "Costs",
    "CutOffError",
    "Deed",
    "Difference",
    "Draft",
    "Drill",
    "Drive",
    "DriveFit",
    "DriveRoom",
    "DriveUser",
    "DropPlan",
    "DropResult",
    "DueRuns",
    "DuneChestError",
    "Edition",
    "EditionList",
    "EditionTotals",
    "Elsewhere",
    "Evidence",
    "Existing",
    "FileEntry",
    "FileRecord",
    "FileState",
    "FileTable",
    "FileToCopy",
    "FileToMend",
    "Filesystem",
    "FindResult",
    "Finding",
    "FolderEntry",
    "FolderRecord",
    "FoundCopy",
    "FoundDrive",
    "FoundFile",
    "FoundLibrary",
    "Head",
    "Home",
    "InUse",
    "JoinTable",
    "Joined",
    "Joins",
    "Kind",
    "KindFileError",
    "LeaseLostError",
    "Left",
    "LeftOutFile",
    "LeftOut",
    "Library",
    "LibraryComparison",
    "LibraryHistory",
    "LibraryRecord",
    "Limits",
    "LinkEntry",
    "LinkRecord",
    "LooseFolder",
    "Lying",
    "Made",
    "MadeFolder",
    "MadeLink",
    "MappedPlace",
    "MendPlan",
    "MendResult",
    "MergeResult",
    "MetComputer",
    "Mismatch",
    "NewLibrary",
    "NextStep",
    "NotConnectedError",
    "NotDone",
    "NotHeld",
    "NotMade",
    "Observation",
    "Offer",
    "Office",
    "OfficeComputer",
    "OfficeError",
    "OfficeMade",
    "OfficeSeen",
    "OfficeUnreachableError",
    "OldPlace",
    "Origin",
    "OtherEntry",
    "OutsideFile",
    "OutsideFileRecord",
    "OutsideMove",
    "Overview",
    "OwnerRecord",
    "PackageMissingError",
    "Part",
    "PartMovePlan",
    "PartRecord",
    "Parts",
    "PastCheck",
    "PastDrill",
    "PastEdition",
    "PastHome",
    "PastRole",
    "PlaceRecord",
    "Placement",
    "PlannedDatabase",
    "PlannedFile",
    "Probed",
    "Progress",
    "Proof",
    "ProtectedLibrary",
    "Protection",
    "Proven",
    "RawName",
    "Readiness",
    "ReclaimOptions",
    "ReclaimPlan",
    "ReclaimResult",
    "Recognised",
    "RecordDamagedError",
    "RecordFault",
    "Reference",
    "ReferenceCounts",
    "ReferencePlan",
    "ReferenceRecord",
    "ReferenceReport",
    "References",
    "RefusedError",
    "RehomeOptions",
    "RehomePlan",
    "RehomeResult",
    "RejoinPlan",
    "RejoinResult",
    "ReleaseResult",
    "Removing",
    "Repoint",
    "RestoreFile",
    "RestoreOptions",
    "RestoreOutsideFile",
    "RestorePlan",
    "RestoreResult",
    "Rewritten",
    "RoleTotal",
    "Roles",
    "Room",
    "Routine",
    "RoutineChest",
    "RoutineInstallation",
    "RoutineLibrary",
    "RoutineOptions",
    "RoutineRun",
    "RoutineState",
    "RoutineStep",
    "SavedPlan",
    "SearchOptions",
    "SearchResult",
    "Selection",
    "Sent",
    "ServerError",
    "Setting",
    "SettingChange",
    "Sign",
    "SparseRecord",
    "Status",
    "Step",
    "StillNamed",
    "Swapped",
    "Tag",
    "TagLists",
    "TakeOut",
    "Target",
    "Totals",
    "Traffic",
    "Tree",
    "TriedKind",
    "TriedLine",
    "UndoAction",
    "UndoPlan",
    "UndoResult",
    "UnknownFolder",
    "Unprotected",
    "UsageError",
    "Use",
    "VerifyResult",
    "Walk",
    "WasEmpty",
    "Watched",
    "Working",
    "__version__",
    "add_kind",
    "add_office_computer",
    "add_routine",
    "archive",
    "carry_out",
    "compare",
    "compare_chests",
    "copy_chest",
    "costs_of",
    "create_chest",
    "cut_off",
    "draft_kind",
    "drill",
    "drop_editions",
    "find_libraries",
    "forget_home",
    "forget_library",
    "forget_place",
    "get_chest",
    "get_library",
    "ignore_place",
    "ignored_places",
    "join_office",
    "leave_office",
    "left_behind",
    "library_at",
    "list_chests",
    "list_computers",
    "list_editions",
    "list_homes",
    "list_kinds",
    "list_routines",
    "look",
    "mapped_places",
    "mend",
    "new_chest_id",
    "offers",
    "overview",
    "plan_archive",
    "plan_as_saved",
    "plan_copy",
    "plan_drop",
    "plan_mend",
    "plan_reclaim",
    "plan_rehome",
    "plan_rehome_back",
    "plan_rehome_parts",
    "plan_rejoin",
    "plan_restore",
    "plan_restores",
    "plan_routine",
    "plan_undo",
    "read_kind",
    "rebuild_chest",
    "reclaim",
    "recover",
    "rehome",
    "rehome_back",
    "rejoin",
    "release",
    "remember_place",
    "remember_server",
    "remove_office_computer",
    "remove_routine",
    "rename_chest",
    "restorable",
    "restore",
    "restore_several",
    "retire_chest",
    "routine_log",
    "run_due",
    "run_routine",
    "saved_plan",
    "say_computer",
    "search",
    "send_to_office",
    "set_chest_place",
    "set_up_office",
    "show_chest",
    "show_office",
    "status",
    "try_kind",
    "undo",
    "verify",
    "watch",
    "write_report",
]


def __getattr__(name: str) -> Any:
    if name == "__version__":
        from dunechest.version import version_number

        value: Any = version_number()
    elif name in _WHERE:
        value = getattr(import_module(f"dunechest.{_WHERE[name]}"), name)
        _make_public(value)
    else:
        raise AttributeError(f"module 'dunechest' has no attribute {name!r}")
    globals()[name] = value
    return value


def _make_public(value: Any) -> None:
    """Have a class or function say that it is of this package: where it is defined is nobody's concern."""
    # The types of values find the types of their fields by their module, when they are first read or written.
    if callable(value) and not any(hasattr(value, own) for own in ("__struct_fields__", "_fields", "_told")):
        value.__module__ = __name__


def __dir__() -> list[str]:
    return sorted(__all__)
