"""Two bags of one name in two chests, by their states: the same, one behind the other, diverged, or of two libraries.

Where both have the same editions under the same numbers, these are compared one by one (`why_not_same`). Where an archive to
two chests was interrupted on one of them, or each was archived to by itself, the numbers say nothing, and the states do.
"""

from __future__ import annotations

from typing import Literal

import msgspec

from dunechest.chest.file_table import FileTable, Proven
from dunechest.chest.layout import EARLIER
from dunechest.chest.records import LibraryRecord
from dunechest.chest.states import following, only_in, states_of_bag
from dunechest.jobs.copy.image import Held

Relation = Literal["same", "behind", "ahead", "diverged", "other"]


class Histories(msgspec.Struct, frozen=True):
    """The states of a library in two chests, by the numbers of the editions.

    `ours` are those of the chest that is copied from, `theirs` those of the other.
    """

    source: Held
    target: Held
    ours: dict[int, str]
    theirs: dict[int, str]

    @property
    def relation(self) -> Relation:
        """How the other chest's newest state stands to that of the one that is copied from."""
        own, other = self._last(self.source, self.ours), self._last(self.target, self.theirs)
        if own == other:
            return "same"
        mine = {*self.ours.values(), *self.source.record.follows}
        others = {*self.theirs.values(), *self.target.record.follows}
        if other in mine:
            return "behind"
        if own in others:
            return "ahead"
        if mine & others or self.source.record.origin == self.target.record.origin:
            return "diverged"
        return "other"

    @property
    def only_source(self) -> tuple[int, ...]:
        """Editions of the first chest whose states the other does not have."""
        return only_in(self.ours, self.theirs)

    @property
    def only_target(self) -> tuple[int, ...]:
        """Editions of the other chest whose states the first does not have."""
        return only_in(self.theirs, self.ours)

    @staticmethod
    def _last(held: Held, states: dict[int, str]) -> str:
        return states[held.record.edition]

    def appended(self) -> Held:
        """Return the source's newest edition as the next one of the other chest.

        What lies between stays in the source alone; the numbers there are others.
        """
        source, target = self.source, self.target
        number = target.record.edition + 1
        other = self._last(self.target, self.theirs)
        own = self._last(self.source, self.ours)
        after = max((n for n, state in self.ours.items() if state == other), default=0)
        since = [n for n in source.numbers if n > after]
        changed = any(self._record(n).mass_change for n in since)
        record = msgspec.structs.replace(
            source.record,
            edition=number,
            state=own,
            follows=following(own, (other, target.record.follows), (own, source.record.follows)),
            mass_change=changed,
        )
        tags = {path: tag for path, tag in source.tags.items() if not path.startswith(EARLIER + "/")}
        return Held(source.own, record, _as_of(source.files, target.files, number), tags, (number,))

    def _record(self, number: int) -> LibraryRecord:
        source = self.source
        return source.record if number == source.record.edition else source.own.edition(number)


def histories(source: Held, target: Held) -> Histories:
    """Return the states of a library in two chests.

    Raises
    ------
    DuneChestError
        If a record that it takes is not proven.
    """
    return Histories(
        source, target, states_of_bag(source.own, source.record), states_of_bag(target.own, target.record)
    )


def _as_of(files: FileTable, before: FileTable, number: int) -> FileTable:
    """Return files with the numbers of the editions that they came in with in the other chest."""
    found = FileTable()
    for proven in files.by_path():
        record = proven.record
        then = before.get(record.path)
        same = then is not None and then.record.blake3 == record.blake3
        edition = then.record.edition if same and then is not None else number
        found[record.path] = Proven(msgspec.structs.replace(record, edition=edition), proven.raw)
    return found
