"""The drive a chest is on, as found."""

from __future__ import annotations

from dunechest.chest.chest import Chest
from dunechest.machine import volumes
from dunechest.machine.drives import filesystem, with_limits
from dunechest.machine.probe import probe, stricter
from dunechest.model.study import Drive
from dunechest.transfer import elsewhere


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
