"""Stop expecting a library on a drive that is lost."""

from __future__ import annotations

import uuid

from dunechest.errors import CutOffError, RefusedError
from dunechest.jobs.known.homes import note_move
from dunechest.jobs.restore.doing.folders import make_above
from dunechest.ledger import past_changes
from dunechest.ledger.past_changes import ChangedLink
from dunechest.machine import folder_links
from dunechest.model.homes import Home
from dunechest.names import quoted, shown, to_line, to_wire


def give_up_home(home: Home) -> None:
    """Note that a moved library is not expected any more, and remove the link that leads to nothing.

    Raises
    ------
    RefusedError
        If it is there.
    CutOffError
        If that cannot be written down.
    """
    if home.connected:
        raise RefusedError(
            f"Refused: {shown(home.name)} is connected, in {shown(str(home.path))}. Nothing was changed. To move it back: "
            f"dunechest rehome --back {quoted(home.name)}"
        )
    move = uuid.uuid4().hex
    past_change = past_changes.begin("forget", home.name, to_wire(str(home.old_path)), id=move)
    make_above(home.old_path.parent, past_change)
    past = home.past
    why = note_move(
        {
            "old": to_line(past.old), "id": past.id, "name": past.name, "kind": past.kind, "place": to_line(past.place),
            "below": to_line(past.below), "drive": past.drive, "way": past.way, "identity": past.identity,
            "back": True, "move": move,
        }
    )  # fmt: skip
    if why:
        raise CutOffError(f"That cannot be written down. {why}")
    if folder_links.is_link_to(home.old_path, past.place):
        past_change.will(ChangedLink(to_wire(str(home.old_path)), to_wire(past.place), ""))
        folder_links.remove_link(home.old_path)
    past_change.close()
