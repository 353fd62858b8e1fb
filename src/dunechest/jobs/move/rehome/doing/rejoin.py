"""Set a second library aside, and have the application find the moved one again."""

from __future__ import annotations

import os
from typing import Any

from dunechest.errors import RefusedError
from dunechest.jobs.known.homes import must_note_move
from dunechest.jobs.restore.doing.settings import write_setting
from dunechest.ledger import past_changes
from dunechest.ledger.past_changes import Aside, ChangedLink, OpenChange, Swapped, Working
from dunechest.machine import folder_links
from dunechest.machine.drives import drive_identity, drive_of
from dunechest.model.rehome import RejoinPlan
from dunechest.names import shown, to_line, to_wire
from dunechest.paths import is_link
from dunechest.transfer import disk
from dunechest.transfer.owner import give, owner_above


def set_right(plan: RejoinPlan, past_change: OpenChange, listing: str, move: str) -> None:
    """Set the second library aside, update setting or link, and note where the library is.

    Parameters
    ----------
    plan : RejoinPlan
        What to do.
    past_change : OpenChange
        Where each step is written down before it is taken.
    listing : str
        Name of the list of what the second library holds.
    move : str
        What tells this rejoining from others.

    Raises
    ------
    RefusedError
        If something is in the way by now.
    """
    home = plan.home
    for change in plan.settings:
        why = write_setting(change, past_change)
        if why:
            raise RefusedError(f"Refused: {why}.")
    aside = plan.set_aside_path if home.second is not None else None
    of_aside = {"id": home.past.id, "name": home.name, "old": to_line(str(home.old_path)), "listing": listing}
    must_note_move(_facts(plan, move), aside, of_aside)
    if aside is not None:
        _aside(plan, past_change)
    elif plan.link_before != plan.link_after:
        change_link(plan, past_change)
    for place in past_change.places:
        if not is_link(place):
            give(owner_above(place), [place])


def _aside(plan: RejoinPlan, past_change: OpenChange) -> None:
    home, aside, second = plan.home, plan.set_aside_path, plan.second_path
    assert aside is not None and second is not None
    if os.path.lexists(aside):
        raise RefusedError(f"{shown(str(aside))} appeared meanwhile. Run the same command again.")
    if plan.link_after and second == home.old_path:
        target = plan.link_after
        past_change.will(Swapped(to_wire(str(second)), to_wire(str(aside)), to_wire(target)))
        folder_links.make_link(aside, target)
        if not folder_links.exchange(second, aside):
            folder_links.remove_link(aside)
            disk.rename(second, aside)
            folder_links.make_link(second, target)
    else:
        past_change.will(Aside(to_wire(str(second)), to_wire(str(aside))))
        disk.rename(second, aside)
        if plan.link_before != plan.link_after:
            change_link(plan, past_change)
    disk.flush_folder(second.parent)


def change_link(plan: RejoinPlan, past_change: OpenChange) -> None:
    """Have the link in the old place lead to where the library is now."""
    old, before, after = plan.home.old_path, plan.link_before, plan.link_after
    past_change.will(ChangedLink(to_wire(str(old)), to_wire(before), to_wire(after)))
    if after:
        beside = old.with_name(f"{past_changes.WORKING[0]}link-{old.name[:100]}")
        past_change.will(Working(to_wire(str(beside))))
        folder_links.make_link(beside, after)
        if before and folder_links.exchange(beside, old):
            folder_links.remove_link(beside)
        else:
            if before:
                folder_links.remove_link(old)
            disk.rename(beside, old)
    elif before:
        folder_links.remove_link(old)
    disk.flush_folder(old.parent)


def _facts(plan: RejoinPlan, move: str) -> dict[str, Any]:
    """Return what is noted of where the library is from now on."""
    home = plan.home
    try:
        mount = drive_of(home.path.parent)
        below = os.path.relpath(home.path, mount) if home.path.is_relative_to(mount) else ""
    except OSError:
        below = home.past.below
    return {
        "old": to_line(str(home.old_path)), "id": home.past.id, "name": home.name, "kind": home.kind,
        "place": to_line(str(home.path)), "below": to_line(below), "drive": home.drive, "way": home.way,
        "identity": drive_identity(home.path.parent), "back": False, "move": move,
    }  # fmt: skip
