"""Archive a library again and again, and bring an edition back."""

from __future__ import annotations

import shutil
from pathlib import Path
from typing import Any

import dunechest
from dunechest.model.archive import USUAL, ArchiveOptions
from tests.support.trees import facts


def archive(library: Path, chest: dunechest.Chest, options: ArchiveOptions = USUAL) -> Any:
    (account,) = dunechest.archive([library], chest, options)
    return account


def back(chest: dunechest.Chest, name: str, number: int, place: Path) -> dict[bytes, tuple[Any, ...]]:
    result = dunechest.restore(chest, name, dunechest.RestoreOptions(into=str(place), edition=number))
    assert result.ok, result.not_restored
    found = facts(place)
    shutil.rmtree(place)
    return found
