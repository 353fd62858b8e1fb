"""How much of the computer a job takes: its priority, and whether the computer runs on mains power."""

from __future__ import annotations

import psutil


def give_way() -> None:
    """Have this process, and those that it starts, give way to all others, for the processor and for the disk.

    What the system refuses is left as it is.
    """
    try:
        own = psutil.Process()
    except (psutil.Error, OSError):
        return
    try:
        own.nice(getattr(psutil, "IDLE_PRIORITY_CLASS", 19))
    except (psutil.Error, OSError):
        pass
    if hasattr(own, "ionice"):
        try:
            # Linux has an idle class; Windows a very low priority, which is number 0.
            own.ionice(getattr(psutil, "IOPRIO_CLASS_IDLE", 0))
        except (psutil.Error, OSError, ValueError):
            pass


def on_mains() -> bool:
    """Whether the computer is on mains power; one without a battery always is."""
    try:
        battery = psutil.sensors_battery() if hasattr(psutil, "sensors_battery") else None
    except (psutil.Error, OSError, RuntimeError):
        return True
    # A battery that does not say whether it is being charged is no reason to wait for ever.
    return battery is None or battery.power_plugged is not False
