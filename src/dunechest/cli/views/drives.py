"""How the drives of chests are called."""

from __future__ import annotations

from dunechest.model.chests import ChestStatus


def drive_words(chest: ChestStatus) -> str:
    """Say whether the drive of a chest is connected; one on a server is neither."""
    return "connected" if chest.connected else "on a server" if chest.address else "not connected"
