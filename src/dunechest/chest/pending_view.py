"""A bag as it is once a decided change is carried out, without carrying it out.

A change that was decided may wait for a drive that can be written to, or may be under way in another process.
Reading waits for neither: the steps that are still to be done are followed on paper, and say where the file of each
name lies meanwhile.
"""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path

import msgspec

from dunechest.bag.bag import BagListing, list_bag
from dunechest.chest import journal
from dunechest.chest.layout import PENDING
from dunechest.errors import DuneChestError


class PendingView(msgspec.Struct, frozen=True):
    """Where the files of a bag lie.

    Parameters
    ----------
    bag : Path
        Its folder.
    moved : mapping
        For names whose file lies elsewhere meanwhile: the name in the bag, and the place in the bag.
    decided : bool
        Whether a decided change waits to be carried out.
    why_not : str
        Why the journal of a change is not believed, or empty.
    """

    bag: Path
    moved: Mapping[str, str] = msgspec.field(default_factory=dict)
    decided: bool = False
    why_not: str = ""
    _lying: BagListing | None = None

    def place(self, path: str) -> str:
        """Return where a file of the bag lies, relative to the bag."""
        return self.moved.get(path, path)

    def at(self, path: str) -> Path:
        """Return where a file of the bag lies."""
        return self.bag / self.place(path)

    def lying(self) -> BagListing:
        """List what is in the bag, by the names it has once the change is carried out."""
        return self._lying if self._lying is not None else list_bag(self.bag)


def view_of(bag: Path) -> PendingView:
    """Follow the steps that a bag's journal has still to do; nothing is changed."""
    try:
        phases = journal.read(bag)
    except DuneChestError as error:
        return PendingView(bag, why_not=str(error))
    if phases is None:
        return PendingView(bag)
    lying = list_bag(bag)
    place = {path: path for path in lying.files}
    for phase in phases:
        for step in phase:
            if not step.old or not step.new:
                continue  # folders come and go by themselves here
            if step.old in place:
                place[step.new] = place.pop(step.old)
            elif (bag / step.old).is_dir():  # the payload of a new bag comes as one folder
                inside = [path for path in place if path.startswith(step.old + "/")]
                for path in inside:
                    place[step.new + path[len(step.old) :]] = place.pop(path)
    kept = {path: old for path, old in place.items() if not path.startswith(PENDING + "/")}
    seen = BagListing(
        {path: lying.files[old] for path, old in kept.items()},
        {path: why for path, why in lying.others.items() if not path.startswith(PENDING + "/")},
        lying.unreadable,
    )
    return PendingView(bag, {path: old for path, old in kept.items() if path != old}, True, "", seen)
