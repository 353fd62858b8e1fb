"""What moving a library did, as plain values."""

from __future__ import annotations

from pathlib import Path
from typing import ClassVar

import msgspec

from dunechest.findings import Finding
from dunechest.jobs.restore.plan import ByHand, Repoint, SettingChange
from dunechest.values import Value


class RehomeResult(Value, msgspec.Struct, frozen=True):
    """The summary of a move.

    `source` is where the library was, `target` where it is; `old` where its application used to find it, and `way` how it
    finds it now; `aside` the name that the original got, None if there is none left. `files` and `bytes` were copied and
    proven; `updated` are references that were updated, `by_hand` those that a person has to look at. `stayed` are shared
    files of parts that stay in the library, too.
    """

    _shown: ClassVar[tuple[str, ...]] = ("name", "target", "files")
    _document: ClassVar[str] = "rehome.MovedLibrary"

    name: str
    application: str
    source: Path
    target: Path
    old: Path
    drive: str
    way: str
    back: bool
    aside: Path | None
    files: int
    bytes: int
    links: int
    updated: tuple[Repoint, ...]
    by_hand: tuple[ByHand, ...]
    settings: tuple[SettingChange, ...]
    not_moved: tuple[tuple[str, str], ...]
    outside_moves: tuple[tuple[str, Path], ...]
    findings: tuple[Finding, ...]
    seconds: float
    parts: tuple[str, ...] = ()
    stayed: tuple[str, ...] = ()


class RejoinResult(Value, msgspec.Struct, frozen=True):
    """The summary of a rejoining: what of the second library came to the one on the drive, and what became of the second.

    `added` are its files that were new, `same` those that were there already; `merged` files were made one of both,
    `conflicts` came under another name, `kept` stayed as they were on the drive.
    """

    _shown: ClassVar[tuple[str, ...]] = ("name", "place", "added")
    _document: ClassVar[str] = "rehome.RejoinedLibrary"

    name: str
    place: Path
    old: Path
    drive: str
    way: str
    second: Path | None
    aside: Path | None
    added: int
    same: int
    merged: tuple[str, ...]
    conflicts: tuple[tuple[str, str], ...]
    kept: tuple[str, ...]
    settings: tuple[SettingChange, ...]
    findings: tuple[Finding, ...]
    seconds: float
