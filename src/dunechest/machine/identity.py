"""Who this computer is, to its own records and to the chests it writes to."""

from __future__ import annotations

import os
import platform
import sys
import uuid
from pathlib import Path

import msgspec

from dunechest.transfer import safe
from dunechest.transfer.owner import hand_over, make_own


class Machine(msgspec.Struct, frozen=True):
    """This computer: a random id made once, the name people know it by, and its operating system."""

    id: str
    name: str
    system: str


def system_name() -> str:
    """Return ``linux``, ``macos`` or ``windows``."""
    return {"darwin": "macos", "win32": "windows"}.get(sys.platform, "linux")


def this_machine(state: Path) -> Machine:
    """Return this computer's identity, making it the first time.

    Parameters
    ----------
    state : Path
        The folder of this computer's own records.
    """
    file = state / "machine.json"
    try:
        return msgspec.json.decode(safe.read_bounded(file, 1 << 16), type=Machine)
    except (OSError, ValueError, msgspec.MsgspecError):
        pass
    machine = Machine(uuid.uuid4().hex, platform.node() or "this-machine", system_name())
    try:
        make_own(state)
        safe.write_file(file, msgspec.json.format(msgspec.json.encode(machine), indent=2), mode=0o600)
        hand_over(state)
    except OSError:
        pass  # a computer without a place for records is a new one each time; nothing else depends on it
    return machine


def this_run() -> str:
    """Return what is the same for all processes that see each other: this system since it was started, and no copy of it.

    Empty if the system does not tell.
    """
    if sys.platform == "linux":
        try:
            boot = Path("/proc/sys/kernel/random/boot_id").read_text(encoding="ascii").strip()
            # In another container a process of this number may be another one, or none.
            return f"{boot} {os.readlink('/proc/self/ns/pid')} {platform.node()}"
        except OSError:
            return ""
    import psutil

    return f"{psutil.boot_time():.0f} {platform.node()} {uuid.getnode():x}"
