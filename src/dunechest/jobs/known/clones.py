"""Chests that are easily mixed up: connected twice with one id, because one of them was copied by hand, or of one label."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable

from msgspec.structs import replace

from dunechest.ledger.ledger import Ledger
from dunechest.machine.volumes import identity
from dunechest.model.chests import ChestStatus
from dunechest.model.overview import NextStep
from dunechest.names import quoted, shown


def one_of_each(chests: Iterable[ChestStatus], ledger: Ledger) -> tuple[ChestStatus, ...]:
    """Return one chest of each id: of two with one id the one whose medium is known.

    If none is known by its medium, or both are, it counts as not connected: what is done to one of them may be done to the
    wrong one.
    """
    found = []
    for own in _by_id(chests):
        known = own if len(own) == 1 else known_media(own, ledger)
        found.append(known[0] if len(known) == 1 else replace(own[0], connected=False, free_bytes=None))
    return tuple(found)


def known_media(own: Iterable[ChestStatus], ledger: Ledger) -> list[ChestStatus]:
    """Return those of several chests with one id that lie on the medium that was archived to last.

    Where nothing is known of that, it is the medium on which this computer saw what the chest holds.
    """
    own = list(own)
    chest = own[0].id
    written = [(item.turn, item.where) for item in ledger.archives(chest) if item.where]
    seen = {item.where for item in ledger.holdings() if item.chest == chest and not item.by and item.where}
    media = {max(written)[1]} if written else seen
    return [chest for chest in own if chest.connected and identity(chest.path) in media]


def of_clones(chests: Iterable[ChestStatus], ledger: Ledger) -> Iterable[NextStep]:
    """Yield what to do about each chest that is connected twice."""
    for own in _by_id(chests):
        if len(own) < 2:
            continue
        known = known_media(own, ledger)
        copies = [chest for chest in own if chest not in known]
        if len(known) == 1:
            places = " and ".join(shown(str(chest.path)) for chest in copies)
            how = f"dunechest chest new-id {quoted(str(copies[0].path))}"
            yield NextStep(
                f"{shown(own[0].label)} is connected twice: what is in {places} was copied by hand, and counts as no copy. "
                f"Unplug it, or make it a chest of its own: {how}", "",
            )  # fmt: skip
        else:
            places = " and ".join(shown(str(chest.path)) for chest in own)
            yield NextStep(
                f"{shown(own[0].label)} is connected twice, in {places}: one of them was copied by hand. Unplug it, or make it a "
                "chest of its own: dunechest chest new-id FOLDER", "",
            )  # fmt: skip


def called(chest: ChestStatus, chests: Iterable[ChestStatus]) -> str:
    """Return what a command can call a chest: its label; where it is, or its id, if another one of these has that label, too."""
    if sum(other.label.casefold() == chest.label.casefold() for other in chests) == 1:
        return quoted(chest.label)
    return quoted(chest.folder if chest.connected or chest.address else chest.id)


def _by_id(chests: Iterable[ChestStatus]) -> list[list[ChestStatus]]:
    found: dict[str, list[ChestStatus]] = defaultdict(list)
    for chest in chests:
        found[chest.id].append(chest)
    return list(found.values())
