"""The computer this runs on."""

from __future__ import annotations

from dunechest.ledger.folder import state_folder
from dunechest.machine.identity import this_machine


def machine_name() -> str:
    """Return the name of this computer."""
    return this_machine(state_folder()).name
