"""Dune Chest: archive application libraries to external drives, verify the copies, restore them.

The public interface. Everything is loaded when it is first used, so that
``import dunechest`` costs next to nothing.

Examples
--------
>>> import dunechest, pathlib, tempfile
>>> home, drive = pathlib.Path(tempfile.mkdtemp()), tempfile.mkdtemp()
>>> _ = (home / "notes.txt").write_text("spring tide at noon")
>>> chest = dunechest.Chest.create(drive, "blue")
>>> (result,) = dunechest.archive(home, chest)
>>> result.files_copied
1
>>> dunechest.verify(chest).well
True
"""

from __future__ import annotations

from importlib import import_module
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from dunechest.chest.bag_entry import BagEntry
    from dunechest.chest.chest import Chest
    from dunechest.errors import (
        BagUnusable,
        ChestBusy,
        ChestUnusable,
        CutOff,
        DuneChestError,
        KindFileError,
        Refused,
        WordsOff,
    )
    from dunechest.findings import Finding
    from dunechest.jobs.archive import ArchiveOptions, ArchivePlan, archive
    from dunechest.jobs.archive.planning.make import plan_archive
    from dunechest.jobs.archive.result import ArchiveResult
    from dunechest.jobs.chests import ChestContents, create_chest, show_chest
    from dunechest.jobs.compare.by_bytes import compare
    from dunechest.jobs.compare.result import Comparison
    from dunechest.jobs.drill import Drill, drill
    from dunechest.jobs.editions import drop_editions
    from dunechest.jobs.editions.listing import EditionList, list_editions
    from dunechest.jobs.editions.plan import DropPlan
    from dunechest.jobs.editions.planning import plan_drop
    from dunechest.jobs.find import FindResult, FoundLibrary, find_libraries
    from dunechest.jobs.known_chests import ChestList, list_chests
    from dunechest.jobs.look import Readiness, look
    from dunechest.jobs.named import library_at
    from dunechest.jobs.restore import restore
    from dunechest.jobs.restore.options import RestoreOptions
    from dunechest.jobs.restore.places_map import remember_counterpart
    from dunechest.jobs.restore.plan import RestorePlan
    from dunechest.jobs.restore.planning.make import plan_restore
    from dunechest.jobs.restore.result import Proof, RestoreResult
    from dunechest.jobs.study.selection import Choice, LeftBehind
    from dunechest.jobs.undo import UndoPlan, plan_undo, undo
    from dunechest.jobs.verify import verify
    from dunechest.jobs.verify.result import BagCheck, FileState, VerifyResult
    from dunechest.library.draft.compose import Draft, draft_kind
    from dunechest.library.library import Library
    from dunechest.progress import Progress, Step

_WHERE = {
    "Drill": "jobs.drill",
    "drill": "jobs.drill",
    "RestoreOptions": "jobs.restore.options",
    "remember_counterpart": "jobs.restore.places_map",
    "Proof": "jobs.restore.result",
    "UndoPlan": "jobs.undo",
    "plan_undo": "jobs.undo",
    "undo": "jobs.undo",
    "archive": "jobs.archive",
    "restore": "jobs.restore",
    "BagEntry": "chest.bag_entry",
    "Chest": "chest.chest",
    "BagUnusable": "errors",
    "ChestBusy": "errors",
    "ChestUnusable": "errors",
    "CutOff": "errors",
    "DuneChestError": "errors",
    "KindFileError": "errors",
    "Refused": "errors",
    "WordsOff": "errors",
    "Finding": "findings",
    "ArchivePlan": "jobs.archive.plan",
    "ArchiveOptions": "jobs.archive",
    "Choice": "jobs.study.selection",
    "LeftBehind": "jobs.study.selection",
    "plan_archive": "jobs.archive.planning.make",
    "ArchiveResult": "jobs.archive.result",
    "FileState": "jobs.verify.result",
    "ChestContents": "jobs.chests",
    "ChestList": "jobs.known_chests",
    "create_chest": "jobs.chests",
    "list_chests": "jobs.known_chests",
    "show_chest": "jobs.chests",
    "FindResult": "jobs.find",
    "FoundLibrary": "jobs.find",
    "Library": "library.library",
    "find_libraries": "jobs.find",
    "library_at": "jobs.named",
    "Readiness": "jobs.look",
    "look": "jobs.look",
    "Comparison": "jobs.compare.result",
    "compare": "jobs.compare",
    "EditionList": "jobs.editions.listing",
    "list_editions": "jobs.editions.listing",
    "DropPlan": "jobs.editions.plan",
    "drop_editions": "jobs.editions",
    "plan_drop": "jobs.editions.planning",
    "RestorePlan": "jobs.restore.plan",
    "plan_restore": "jobs.restore.planning.make",
    "RestoreResult": "jobs.restore.result",
    "Draft": "library.draft.compose",
    "draft_kind": "library.draft.compose",
    "BagCheck": "jobs.verify.result",
    "VerifyResult": "jobs.verify.result",
    "verify": "jobs.verify",
    "Progress": "progress",
    "Step": "progress",
}

__all__ = [
    "ArchiveOptions",
    "ArchivePlan",
    "ArchiveResult",
    "BagCheck",
    "BagEntry",
    "BagUnusable",
    "Chest",
    "ChestBusy",
    "ChestContents",
    "ChestList",
    "ChestUnusable",
    "Choice",
    "Comparison",
    "CutOff",
    "Draft",
    "Drill",
    "DuneChestError",
    "EditionList",
    "FileState",
    "FindResult",
    "Finding",
    "FoundLibrary",
    "KindFileError",
    "LeftBehind",
    "Library",
    "Progress",
    "Proof",
    "Readiness",
    "Refused",
    "RestoreOptions",
    "RestorePlan",
    "RestoreResult",
    "Step",
    "DropPlan",
    "UndoPlan",
    "VerifyResult",
    "WordsOff",
    "archive",
    "compare",
    "create_chest",
    "draft_kind",
    "drill",
    "find_libraries",
    "library_at",
    "list_chests",
    "list_editions",
    "look",
    "plan_archive",
    "plan_restore",
    "plan_drop",
    "drop_editions",
    "plan_undo",
    "remember_counterpart",
    "restore",
    "show_chest",
    "undo",
    "verify",
]


def __getattr__(name: str) -> Any:
    if name not in _WHERE:
        raise AttributeError(f"module 'dunechest' has no attribute {name!r}")
    value = getattr(import_module(f"dunechest.{_WHERE[name]}"), name)
    globals()[name] = value
    return value


def __dir__() -> list[str]:
    return sorted(__all__)
