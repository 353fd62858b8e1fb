"""Several computers of one household, each with a home and a ledger of its own."""

from __future__ import annotations

import json
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

import dunechest


@contextmanager
def computer(top: Path, name: str) -> Iterator[Path]:
    """Be at a computer while the block runs; its home is in a folder of its name. It has a small library ``notes``."""
    home = top / name
    state = home / "state"
    if not state.exists():
        state.mkdir(parents=True)
        machine = {"id": name.encode().hex().ljust(32, "0"), "name": name, "system": "linux"}
        (state / "machine.json").write_text(json.dumps(machine))
        (home / "notes").mkdir(exist_ok=True)
        (home / "notes" / "tide.txt").write_text(f"spring tide at {name}")
    with pytest.MonkeyPatch.context() as patch:
        patch.setenv("HOME", str(home))
        patch.setenv("DUNECHEST_HOME", str(state))
        yield home


def meet(name: str, drive: Path, top: Path) -> None:
    """Have another computer check what lies on a drive, and this one look at the drive after that."""
    with computer(top, name):
        dunechest.verify(drive)
    dunechest.show_chest(drive)
