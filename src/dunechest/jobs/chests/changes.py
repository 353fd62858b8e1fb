"""Change what a chest is called, where its drive is kept, and whether it is expected at all."""

from __future__ import annotations

import os

from dunechest.chest.chest import Chest
from dunechest.errors import DuneChestError, UsageError
from dunechest.jobs.known.chests import list_chests, note_chest
from dunechest.jobs.known.holdings import is_known_damaged, note_damage
from dunechest.jobs.known.named import get_chest
from dunechest.jobs.office.membership import has_office
from dunechest.ledger import events
from dunechest.ledger.folder import state_folder
from dunechest.machine.identity import this_machine
from dunechest.model.chests import ChestStatus
from dunechest.names import AnyPath, meant, shown


def rename_chest(chest: Chest | AnyPath, label: str) -> Chest:
    """Give a chest another label. No library is touched.

    Parameters
    ----------
    chest : Chest, path or label
        The chest, whose drive is connected.
    label : str
        What to call it from now on.

    Returns
    -------
    Chest
        The chest under its new label.

    Raises
    ------
    UsageError
        If the label is not one, or another chest that is expected has it.
    RefusedError
        If a record of the chest is damaged, or another process is changing it.
    CutOffError
        If the drive cannot be written to. The same call continues.
    """
    chest = get_chest(chest)
    refuse_taken_label(label, chest.id)
    renamed = chest.renamed(label, this_machine(state_folder()).name)
    note_chest(renamed)
    return renamed


def refuse_taken_label(label: str, own_id: str = "") -> None:
    """Refuse a label that another chest has: labels tell drives apart. That of a retired one is free again.

    Raises
    ------
    UsageError
        If it is taken.
    """
    for known in list_chests().chests:
        if known.label.casefold() != label.casefold() or known.id == own_id:
            continue
        if known.connected:
            words = f"A chest labelled {shown(label)!r} already exists in {shown(str(known.path))}."
        elif known.retired_at is None:
            words = (
                f"This computer knows a chest labelled {shown(label)!r}, last seen in {shown(str(known.path))}; its "
                "drive is not connected."
            )
        else:
            continue
        raise UsageError(f"{words} Choose another label, so that the drives can be told apart.")


def new_chest_id(place: AnyPath) -> Chest:
    """Give a chest that was copied by hand an id of its own, so that it counts as another chest.

    Parameters
    ----------
    place : path
        Its folder: of two chests with one id a label cannot say which is meant.

    Raises
    ------
    UsageError
        If there is no chest.
    RefusedError
        If a record of the chest is damaged, or another process is changing it.
    CutOffError
        If the drive cannot be written to. The same call continues.
    """
    machine = this_machine(state_folder()).name
    chest = Chest.open(os.fspath(place), machine=machine)
    damaged = [entry.name for entry in chest.bags() if is_known_damaged(chest, entry.name)]
    changed = chest.with_new_id(machine)
    note_chest(changed)
    for name in damaged:  # the bytes are the same that they were under the other id
        note_damage(changed, name, 1, always=True)
    return changed


def retire_chest(name: str, *, undo: bool = False) -> ChestStatus:
    """Stop expecting a chest that is lost, sold or broken; its history stays. Its drive is not needed, and not changed.

    Parameters
    ----------
    name : str
        Its label or id.
    undo : bool
        Expect it again.

    Returns
    -------
    ChestStatus
        What is known of it.

    Raises
    ------
    UsageError
        If this computer knows no such chest, or several.
    DuneChestError
        If it cannot be written down.
    """
    known = known_chest(name)
    events.append("retire", chest=known.id, retired=not undo)
    return known_chest(known.id)


def set_chest_place(name: str, place: str) -> ChestStatus:
    """Write down where the drive of a chest is kept: "desk", "with grandmother". Its drive is not needed.

    Parameters
    ----------
    name : str
        Its label or id.
    place : str
        Up to 60 printable characters; empty for nowhere in particular.

    Raises
    ------
    UsageError
        If this computer knows no such chest, or the place is not one.
    DuneChestError
        If it cannot be written down.
    """
    if len(place) > 60 or shown(place) != place:
        raise UsageError('A place is up to 60 printable characters, such as: desk, or "with grandmother".')
    known = known_chest(name)
    events.append("keep", chest=known.id, place=place.strip())
    return known_chest(known.id)


def _every() -> tuple[ChestStatus, ...]:
    """Return the chests that this computer knows, and those that the other computers of its office know."""
    own = list_chests().chests
    if not has_office():
        return own
    from dunechest.jobs.office.known import office_chests
    from dunechest.jobs.office.view import last_seen, see_office
    from dunechest.ledger.ledger import Ledger

    try:
        now = see_office().now
    except DuneChestError:
        now = last_seen()
    rows, seen_by = now.known()
    known = {chest.id for chest in own}
    others = office_chests(Ledger(rows), seen_by, retired=True)
    return (*own, *(chest for chest in others if chest.id not in known))


def known_chest(name: str) -> ChestStatus:
    """Return a chest that this computer knows, connected or not."""
    every = _every()
    found = [chest for chest in every if name in (chest.label, chest.id, str(chest.path), str(chest.path.parent))]
    found = found or [chest for chest in every if chest.label.casefold() == name.casefold()]
    if len(name) >= 6:
        found = found or [chest for chest in every if chest.id.startswith(name)]
    current = [chest for chest in found if chest.retired_at is None] or found
    if len({chest.id for chest in current}) > 1:
        ids = ", ".join(chest.id[:8] for chest in current)
        raise UsageError(f"Several chests are called {shown(name)!r}. Name one by its id: {ids}.")
    if not current:
        labels = ", ".join(shown(chest.label) for chest in every) or "none yet"
        hint = meant(name, (chest.label for chest in every))
        raise UsageError(f"This computer knows no chest {shown(name)!r}.{hint} Known chests: {labels}.")
    return current[0]
