"""Where an archived library comes from: which machine, and which place on it."""

from __future__ import annotations

import os
from pathlib import Path

from dunechest.chest.records import LibraryRecord, Origin
from dunechest.ledger.folder import state_folder
from dunechest.ledger.memory import tied_to
from dunechest.machine import written_paths
from dunechest.machine.folders import own_home, place_of
from dunechest.machine.identity import this_machine
from dunechest.names import from_wire, to_wire


def origin_of(path: Path) -> Origin:
    """Return the origin of what lies in a place of this computer.

    Of a library that was moved to a drive the standard folder is the one where it was: there it belongs on another computer.
    """
    machine = this_machine(state_folder())
    home = Path(os.path.realpath(own_home()))
    place = place_of(path, home)
    if place is None:
        place = next((known for old in tied_to(str(path)) if (known := place_of(Path(old), home)) is not None), None)
    standard, relative = place if place is not None else ("", "")
    return Origin(machine.id, machine.name, machine.system, to_wire(str(path)), standard, to_wire(relative))


def came_from(record: LibraryRecord, path: Path) -> bool:
    """Whether an archived library came from a place of this computer, or from where it was before it was moved there."""
    machine = this_machine(state_folder())
    if record.origin.machine_id != machine.id:
        return False
    origin = from_wire(record.origin.path)
    return origin == str(path) or origin in tied_to(str(path))


def from_windows(record: LibraryRecord) -> bool:
    """Whether a library was archived on Windows."""
    return record.origin.system == "windows"


def old_path(record: LibraryRecord) -> str:
    """Return the library's old full path, with ``/`` between its pieces."""
    path = from_wire(record.origin.path)
    return written_paths.normal(path.replace("\\", "/" if from_windows(record) else "\\"))
