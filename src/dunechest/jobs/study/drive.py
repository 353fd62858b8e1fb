"""The drive a chest is on, as found."""

from __future__ import annotations

import msgspec

from dunechest.chest.chest import Chest
from dunechest.machine import volumes
from dunechest.machine.drives import Filesystem, filesystem, with_limits
from dunechest.machine.probe import Probed, probe, stricter
from dunechest.transfer import elsewhere


class Drive(msgspec.Struct, frozen=True):
    """The drive a chest is on, as found.

    Parameters
    ----------
    place : Filesystem
        Its filesystem, with the limits that hold by its type and by the probe.
    probed : Probed or None
        What the probe found; None if nothing can be written.
    why_not : str
        Why nothing can be written, or empty.
    devices : frozenset of str
        Physical devices it is on, as far as the system tells.
    """

    place: Filesystem
    probed: Probed | None
    why_not: str
    devices: frozenset[str]


def examine(chest: Chest) -> Drive:
    """Look at a chest's drive, and try with a few empty files what it can hold.

    Raises
    ------
    OSError
        If its filesystem cannot be asked.
    """
    place = filesystem(chest.folder)
    if elsewhere.place_of(chest.folder) is not None:
        return Drive(
            place, None, "", frozenset()
        )  # what names can be there is known; no device of this computer is it
    devices = volumes.devices(chest.folder)
    try:
        probed = probe(chest.folder)
    except OSError as error:
        return Drive(place, None, error.strerror or str(error), devices)
    return Drive(with_limits(place, stricter(place.limits, probed)), probed, "", devices)
