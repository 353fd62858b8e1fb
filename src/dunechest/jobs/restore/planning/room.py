"""Whether there is room where a library goes, and leave to write."""

from __future__ import annotations

import os
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Protocol

from dunechest.findings import Finding
from dunechest.jobs.study.room import nearest
from dunechest.machine.drives import Filesystem, holds_holes
from dunechest.model.findings import finding_of
from dunechest.transfer.holes import bytes_of

if TYPE_CHECKING:
    from dunechest.model.restore import RestorePlan


class Sized(Protocol):
    """A file whose bytes are known."""

    @property
    def size(self) -> int:
        """Bytes."""


def need_of(files: Sequence[Sized], folders: Sequence[object], here: Filesystem | None) -> int:
    """Count the bytes that a drive gives up for files and folders: whole blocks, and its own notes of them."""
    block = max(512, here.block) if here is not None else 4096
    holes = here is not None and holds_holes(here.type)

    def taken(file: Sized) -> int:
        data = getattr(file, "data", None)
        return -(-file.size // block) * block if data is None or not holes else bytes_of(data, block)

    total = sum(taken(file) + 512 for file in files) + (len(folders) + 4) * block
    return total + total // 200


def room_findings(plan: RestorePlan, place: Path) -> list[Finding]:
    """Stop where there is too little room, or no leave to write."""
    found = []
    if plan.room.need > plan.room.free:
        found.append(
            finding_of(
                "no-room/restore", need=plan.room.need, free=plan.room.free, missing=plan.room.need - plan.room.free
            )
        )
    near = place if plan.existing.mode == "merge" and place.is_dir() else nearest(place)
    if not os.access(near, os.W_OK):
        found.append(finding_of("no-access/restore", near=str(near)))
    return found
