"""What moving a library did, as plain values."""

from __future__ import annotations

from pathlib import Path
from typing import ClassVar

import msgspec

from dunechest.findings import Finding
from dunechest.jobs.restore.plan import ByHand, Repoint, SettingChange
from dunechest.values import MovedPath, PathAndWhy, RenamedPath, Value


class RehomeResult(Value, msgspec.Struct, frozen=True):
    """The summary of a move.

    `path` is where the library was, `new_path` where it is; `old_path` where its application used to find it, and `way` how
    it finds it now; `set_aside_path` the name that the original got, None if there is none left. `file_count` and
    `size_bytes` were copied and proven; `updated_references` are references that were updated, `references_by_hand` those
    that a person has to look at. `shared_paths` are shared files of parts that stay in the library, too.
    """

    _shown: ClassVar[tuple[str, ...]] = ("name", "new_path", "file_count")
    _told: ClassVar[tuple[str, ...]] = (
        "name",
        "path",
        "new_path",
        "old_path",
        "drive",
        "way",
        "back",
        "parts",
        "set_aside_path",
        "file_count",
        "size_bytes",
        "link_count",
        "updated_references",
        "references_by_hand",
        "settings",
        "unmoved_files",
        "outside_files",
        "shared_paths",
        "findings",
    )
    _rows: ClassVar[str] = "unmoved_files"

    name: str
    application: str
    path: Path
    new_path: Path
    old_path: Path
    drive: str
    way: str
    back: bool
    set_aside_path: Path | None
    file_count: int
    size_bytes: int
    link_count: int
    updated_references: tuple[Repoint, ...]
    references_by_hand: tuple[ByHand, ...]
    settings: tuple[SettingChange, ...]
    unmoved_files: tuple[PathAndWhy, ...]
    outside_files: tuple[MovedPath, ...]
    findings: tuple[Finding, ...]
    seconds: float
    parts: tuple[str, ...] = ()
    shared_paths: tuple[str, ...] = ()


class RejoinResult(Value, msgspec.Struct, frozen=True):
    """The summary of a rejoining: what of the second library came to the one on the drive, and what became of the second.

    `added_count` are its files that were new, `same_count` those that were there already; `merged_paths` files were made one
    of both, `renamed_files` came under another name, `kept_paths` stayed as they were on the drive.
    """

    _shown: ClassVar[tuple[str, ...]] = ("name", "path", "added_count")
    _told: ClassVar[tuple[str, ...]] = (
        "name",
        "path",
        "old_path",
        "drive",
        "way",
        "second_path",
        "set_aside_path",
        "added_count",
        "same_count",
        "merged_paths",
        "renamed_files",
        "kept_paths",
        "settings",
        "findings",
    )
    _rows: ClassVar[str] = "renamed_files"

    name: str
    path: Path
    old_path: Path
    drive: str
    way: str
    second_path: Path | None
    set_aside_path: Path | None
    added_count: int
    same_count: int
    merged_paths: tuple[str, ...]
    renamed_files: tuple[RenamedPath, ...]
    kept_paths: tuple[str, ...]
    settings: tuple[SettingChange, ...]
    findings: tuple[Finding, ...]
    seconds: float
