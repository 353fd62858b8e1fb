"""What the scripts that make pages have in common: write what changed, or only say whether it has."""

from __future__ import annotations

import sys
from collections.abc import Mapping
from pathlib import Path


def keep(folder: Path, ending: str, wanted: Mapping[str, str]) -> int:
    """Make the files of one ending in a folder just these; with ``--check`` only compare, and return 1 if they differ."""
    there = {path.name: path.read_text(encoding="utf-8") for path in folder.glob(f"*{ending}")}
    there = {name: text for name, text in there.items() if ending != ".md" or name in wanted}
    if "--check" in sys.argv[1:]:
        if there != dict(wanted):
            print(f"{folder.name}/ is not up to date: run make docs", file=sys.stderr)
            return 1
        return 0
    folder.mkdir(exist_ok=True)
    for name in there.keys() - wanted.keys():
        (folder / name).unlink()
    for name, text in wanted.items():
        (folder / name).write_text(text, encoding="utf-8")
    return 0
