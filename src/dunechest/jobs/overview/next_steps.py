"""What to do so that every library is safe, most urgent first, each with the command that does it.

A command is proposed only where it succeeds now: what it needs is connected. Where a drive must be connected first, or only
a person can do it, the message says so, and there is no command.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from itertools import count

import msgspec

from dunechest.ledger.ledger import PastRefusal
from dunechest.model.chests import ChestStatus
from dunechest.model.overview import Copy, NextStep, ProtectedLibrary, Unprotected
from dunechest.names import quoted, shown, slug
from dunechest.words import number, size

#: Bytes that an edition takes beside its files, a file's lines in the records, and half of what a block of a drive wastes.
_ROOM, _RECORD, _BLOCK = 1 << 18, 1000, 2048
_NEW = "make a chest on it: dunechest chest new FOLDER --label NAME"
_WEAK = {
    "library-drive": "is on the drive that the library itself is on",
    "library-disk": "is on the disk that the library itself is on",
    "memory": "is in this computer's memory",
    "this-computer": "is on a share of this computer itself",
}


#: What an archive of a library, if it is in chests, from its folder to a chest would be refused for; None if for nothing known.
Refused = Callable[[ProtectedLibrary | None, str, str], PastRefusal | None]


class Lies(msgspec.Struct, frozen=True):
    """Where a chest lies: what it has in common with others on its drive, and why a copy there protects nothing, if so.

    `names` are what this computer calls its disks now.
    """

    marks: frozenset[str]
    weak: str = ""
    names: frozenset[str] = frozenset()


class Naming(msgspec.Struct, frozen=True):
    """What a command can call things.

    Parameters
    ----------
    libraries : mapping
        What it can call a library, by its folder.
    chests : mapping
        What it can call a chest, by its id.
    taken : mapping
        The names of what lies in each chest, by its id.
    """

    libraries: Mapping[str, str]
    chests: Mapping[str, str]
    taken: Mapping[str, Collection[str]]


def next_steps(
    libraries: Sequence[ProtectedLibrary],
    unprotected: Sequence[Unprotected],
    chests: Sequence[ChestStatus],
    naming: Naming,
    lies: Mapping[str, Lies],
    refused: Refused,
) -> Iterable[NextStep]:
    """Yield what to do: damage first, then libraries with too few copies, then what is old.

    Parameters
    ----------
    libraries, unprotected : sequence
        What is in chests, and what is in none.
    chests : sequence of ChestStatus
        Those that are expected.
    naming : Naming
        What a command can call them.
    lies : mapping
        Where each chest lies, by its id.
    refused : callable
        Says what an archive of a library, in a folder, to a chest would be refused for, as far as that is known.
    """
    yield from _Advice(libraries, chests, naming, lies, refused).steps(unprotected)


class _Advice:
    def __init__(
        self,
        libraries: Sequence[ProtectedLibrary],
        chests: Sequence[ChestStatus],
        naming: Naming,
        lies: Mapping[str, Lies],
        refused: Refused,
    ) -> None:
        self._refused = refused
        self._decided: set[tuple[str, str, str]] = set()
        #: The names of what lies in each chest, and of what is proposed to be archived there.
        self._taken = defaultdict[str, set[str]](set, {chest: set(names) for chest, names in naming.taken.items()})
        #: Bytes that what was proposed before takes, by the chest's id.
        self._promised: dict[str, int] = defaultdict(int)
        self._libraries, self._chests, self._naming, self._lies = libraries, chests, naming, lies
        self._by_id = {chest.id: chest for chest in chests}
        # An office has hundreds of both.
        self._by_chest: dict[str, list[tuple[ProtectedLibrary, Copy]]] = defaultdict(list)
        for library in libraries:
            for copy in library.copies:
                if copy.state in ("damaged", "missing", "unchecked"):
                    self._by_chest[copy.chest_id].append((library, copy))

    def steps(self, unprotected: Sequence[Unprotected]) -> Iterable[NextStep]:
        for chest in self._chests:
            yield from self._to_mend(chest)
        if not self._chests and (self._libraries or unprotected):
            yield NextStep(f"There is no chest yet. Connect a drive, and {_NEW}", "")
            return
        yield from self._to_archive(unprotected)
        if len(self._chests) < max((library.rule.copies for library in self._libraries), default=0):
            drives = number(len(self._chests), "drive")
            yield NextStep(f"Only {drives} known: one copy is not a backup. Connect another drive, and {_NEW}", "")
        for chest in self._chests:
            yield from self._to_verify(chest)
        for library in self._libraries:
            if not library.safe:
                yield from self._of_rule(library)

    # What is connected, and has room.

    def _has_room(self, library: ProtectedLibrary, chest: ChestStatus, state: str | None) -> bool:
        """Whether a chest has room for a library, or for what is new in it if it holds one: as far as can be said beforehand."""
        if chest.free_bytes is None:
            return True
        records = _ROOM + library.file_count * _RECORD
        new = library.size_bytes + library.file_count * _BLOCK if state in (None, "missing") else 0
        return chest.free_bytes - self._promised[chest.id] >= records + new

    def _reached(self, chest: str) -> bool:
        known = self._by_id.get(chest)
        return known is not None and (known.connected or bool(known.address))

    def _step(self, message: str, command: str, *chests: str) -> NextStep:
        """Return a step, or one that says what to connect first."""
        away = [self._by_id[chest] for chest in dict.fromkeys(chests) if not self._reached(chest)]
        if not away:
            return NextStep(message, command)
        names = " and ".join(
            shown(chest.label) + (f" (kept at: {shown(chest.kept_at_place)})" if chest.kept_at_place else "")
            for chest in away
        )
        return NextStep(f"{message} Connect {names}, then: {command}", "")

    def _word(self, library: ProtectedLibrary) -> str:
        """Return what a command can call a library: its name, or the folder where it is now."""
        place = shown(str(library.moved.path)) if library.moved is not None else library.path
        return self._naming.libraries.get(place, place)

    # Damage.

    def _to_mend(self, chest: ChestStatus) -> Iterable[NextStep]:
        """Yield what to do about copies in a chest that are damaged or gone."""
        together: dict[tuple[str, str, tuple[str, ...]], list[tuple[ProtectedLibrary, Copy]]] = defaultdict(list)
        for library, copy in self._by_chest[chest.id]:
            place = shown(str(library.moved.path)) if library.moved is not None else library.path
            if copy.state == "missing" and (decision := self._refused(library, place, chest.id)):
                yield from self._decision(library.name, chest, decision)
            elif copy.state != "unchecked":
                how, froms = self._cure(library, copy)
                together[copy.state, how, froms].append((library, copy))
        for (state, how, froms), bad in together.items():
            names = ", ".join(shown(library.name) for library, _ in bad)
            are = "is" if len(bad) == 1 else "are"
            message = f"{names} on {shown(chest.label)} {are} {'damaged' if state == 'damaged' else 'gone'}."
            yield self._of_cure(chest, message, how, froms, bad)

    def _of_cure(
        self,
        chest: ChestStatus,
        message: str,
        how: str,
        froms: tuple[str, ...],
        bad: list[tuple[ProtectedLibrary, Copy]],
    ) -> NextStep:
        label, bags = self._naming.chests[chest.id], " ".join(quoted(copy.archived_as) for _, copy in bad)
        labels = [self._naming.chests[item] if item in self._by_id else quoted(item) for item in froms]
        needed = [chest.id, *(item for item in froms if item in self._by_id)]
        if how in ("mend", "copy", "archive"):
            full = [library.name for library, copy in bad if not self._has_room(library, chest, copy.state)]
            if full:
                return NextStep(
                    f"{message} There is no room on {shown(chest.label)} to make it good: free some first.", ""
                )
        if how == "mend":
            return self._step(message, f"dunechest mend {label} {bags} --from {' --from '.join(labels)}", *needed)
        if how == "copy":
            return self._step(message, f"dunechest copy {labels[0]} {label} {bags}", *needed)
        if how == "archive":
            words = " ".join(quoted(self._word(library)) for library, _ in bad)
            return self._step(message, f"dunechest archive {words} --to {label}", chest.id)
        if how == "verify":
            return self._step(message, f"dunechest verify {label}", chest.id)
        if bad[0][1].state == "missing":
            return NextStep(f"{message} If you removed it yourself: dunechest chest forget {label} {bags}", "")
        return NextStep(
            f"{message} No copy that is known here mends it. Keep it, and archive to another drive; what is intact can be "
            "restored.", "",
        )  # fmt: skip

    def _cure(self, library: ProtectedLibrary, copy: Copy) -> tuple[str, tuple[str, ...]]:
        """Return how a copy is mended or replaced, and from which chests or folder."""
        good = [
            item.chest_id
            for item in library.good
            if item.archived_as == copy.archived_as and item.chest_id != copy.chest_id
        ]
        source = library.on_this_computer and library.there
        if copy.state == "missing":
            if any(i.chest_id == copy.chest_id and i.state not in ("missing", "damaged") for i in library.copies):
                return "", ()  # the chest has it under another name: a person says what became of this one
            found = sorted(good, key=lambda chest: not self._reached(chest))[:1]
            return ("copy", tuple(found)) if found else ("archive", ()) if source else ("", ())
        # Even an outdated copy has most of it; one that was proven before a mend that failed has nothing new.
        older = [
            item.chest_id
            for item in library.copies
            if item.state in ("behind", "unchecked") and item.archived_as == copy.archived_as
        ]
        proofs = {item.chest_id: item.proof for item in library.copies}
        new = [chest for chest in dict.fromkeys((*good, *older)) if proofs[chest] > copy.tried or not copy.tried]
        helpers = [chest for chest in new if self._reached(chest)] or new
        if helpers:
            return "mend", tuple(helpers)
        if source and not copy.tried:
            return "mend", (self._word(library),)
        return ("", ()) if copy.examined else ("verify", ())

    # Copies.

    def _to_archive(self, unprotected: Sequence[Unprotected]) -> Iterable[NextStep]:
        """Yield one command for each chest that some libraries are to be archived to."""
        wanted: dict[tuple[str, str], list[tuple[str, str]]] = defaultdict(list)
        for library in self._libraries:
            # One that only was not checked lately is checked, which is told below, and need not be made again.
            aged = [copy for copy in library.copies if copy.state == "unchecked" and not copy.weak]
            aged = [copy for copy in aged if not any(copy.marks & good.marks for good in library.good)]
            lacking = library.rule.copies - len(library.good) - len({copy.marks for copy in aged})
            if library.safe or lacking <= 0:
                continue
            order = self._targets(library, (*library.good, *aged))
            if not (library.on_this_computer and library.there):
                yield from self._from_elsewhere(library, order, aged)
            elif not order:
                yield from self._no_target(library, (*library.good, *aged))
            else:
                for chest in order[:lacking]:
                    word = self._word(library)
                    place = shown(str(library.moved.path)) if library.moved is not None else library.path
                    if decision := self._refused(library, place, chest.id):
                        yield from self._decision(library.name, chest, decision)
                        continue
                    bag = next((copy.archived_as for copy in library.copies if copy.chest_id == chest.id), "")
                    goes_on = f" --continue {quoted(bag)}" if bag and library.unknown_here else ""
                    goes_on = goes_on or ("" if bag else self._as(library.name, chest.id))
                    wanted[chest.id, goes_on].append((word, library.name))
                    self._promised[chest.id] += 0 if bag else library.size_bytes
        yield from self._never_archived(unprotected, wanted)
        for (own, goes_on), pairs in wanted.items():
            chest = self._by_id[own]
            words = " ".join(dict.fromkeys(quoted(word) for word, _ in pairs))
            message = f"Not enough copies of {_some([name for _, name in pairs])}."
            yield self._step(message, f"dunechest archive {words} --to {self._naming.chests[chest.id]}{goes_on}", own)

    def _as(self, name: str, chest: str) -> str:
        """Return what gives a library another name in a chest where one has its own, or is to get it; empty if none has."""
        usual, taken = slug(name), self._taken[chest]
        free = usual if usual not in taken else next(f"{usual}-{n}" for n in count(2) if f"{usual}-{n}" not in taken)
        taken.add(free)
        return "" if free == usual else f" --as {quoted(free)}"

    def _decision(self, name: str, chest: ChestStatus, refused: PastRefusal) -> Iterable[NextStep]:
        """Say, once, what a person has to decide before a library can be archived; what is no matter of the chest names none."""
        to = f" to {shown(chest.label)}" if refused.chest else ""
        if (name, to, refused.message) not in self._decided:
            self._decided.add((name, to, refused.message))
            yield NextStep(f"{shown(name)} cannot be archived{to} now: {refused.message} {refused.action}", "")

    def _targets(
        self, library: ProtectedLibrary, held: Iterable[Copy], *, with_room: bool = True
    ) -> list[ChestStatus]:
        """Return the chests in which a copy would count: those that are connected first, then those with an outdated one."""
        held = tuple(held)
        states = {copy.chest_id: copy.state for copy in library.copies}
        names = self._lies[library.path].names if library.path in self._lies else frozenset()
        found = []
        for chest in self._chests:
            lies = self._lies.get(chest.id, Lies(frozenset({chest.id})))
            beside = chest.id in library.beside_chests or any(
                library.is_beside(copy) for copy in library.copies if copy.chest_id == chest.id
            )
            taken = library.rule.own_drives >= library.rule.copies and any(copy.marks & lies.marks for copy in held)
            state = states.get(chest.id)
            protects = not (lies.weak or lies.names & names or beside or taken)
            fits = not with_room or self._has_room(library, chest, state)
            if state in (None, "behind", "incomplete") and protects and fits:
                found.append(chest)
        return sorted(found, key=lambda c: (not self._reached(c.id), states.get(c.id) is None, c.label.casefold()))

    def _no_target(self, library: ProtectedLibrary, held: Iterable[Copy]) -> Iterable[NextStep]:
        """Yield why no known chest gives a library another copy that counts."""
        name = shown(library.name)
        if full := self._targets(library, held, with_room=False):
            labels = " or ".join(shown(chest.label) for chest in full)
            words = f"There is no room for {name} ({size(library.size_bytes)}) on {labels}."
            yield NextStep(f"{words} Free some, or connect another drive, and {_NEW}", "")
            return
        reasons = {copy.not_counted_because for copy in library.copies if copy.not_counted_because}
        if library.beside_copies:
            reasons.add("library-drive")
        weak: dict[str, list[str]] = defaultdict(list)
        for copy in library.copies:
            if copy.not_counted_because in _WEAK or library.is_beside(copy):
                weak[_WEAK[copy.not_counted_because or "library-drive"]].append(shown(copy.label))
        if weak:
            told = " ".join(
                f"The copy of {name} on {labels[0]} {why}."
                if len(labels) == 1
                else f"The copies of {name} on {' and '.join(labels)} {why.replace('is ', 'are ', 1)}."
                for why, labels in weak.items()
            )
            yield NextStep(f"{told} Connect another drive, and {_NEW}", "")
        elif "same-drive" in reasons:
            yield NextStep(
                f"Copies of {name} are on one drive, and count as one. Connect another drive, and {_NEW}", ""
            )
        elif not reasons and len(self._chests) >= library.rule.copies and not self._mends_suffice(library, held):
            yield NextStep(f"Not enough copies of {name}. Connect another drive, and {_NEW}", "")

    def _mends_suffice(self, library: ProtectedLibrary, held: Iterable[Copy]) -> bool:
        """Whether a library has copies enough once those are made good that can be."""
        bad = [copy for copy in library.copies if copy.state in ("damaged", "missing") and not copy.weak]
        return sum(1 for _ in held) + sum(self._cure(library, copy)[0] != "" for copy in bad) >= library.rule.copies

    def _from_elsewhere(
        self, library: ProtectedLibrary, targets: Sequence[ChestStatus], aged: Sequence[Copy]
    ) -> Iterable[NextStep]:
        """Yield how a library that is not in its folder here gets another copy: from a good one, if there is one."""
        good = sorted(library.good, key=lambda copy: not self._reached(copy.chest_id))
        if not good and aged:
            return  # what there is of it is checked first; then it can be copied
        states = {copy.chest_id: copy.state for copy in library.copies}
        # What went another way is not brought to this state by a copy: a person decides which of the two goes on.
        apart = {copy.chest_id for copy in library.copies if copy.diverged}
        to = [chest for chest in targets if states.get(chest.id) in (None, "behind") and chest.id not in apart]
        message = f"{shown(library.name)} has {number(len(library.good), 'good copy', 'good copies')}"
        if good and to:
            command = (
                f"dunechest copy "
                f"{self._naming.chests[good[0].chest_id]} {self._naming.chests[to[0].id]} {quoted(good[0].archived_as)}"
            )
            yield self._step(f"{message}.", command, good[0].chest_id, to[0].id)
        elif good and (away := [copy.label for copy in library.copies if copy.diverged]):
            labels = " and ".join(map(shown, away))
            look = (
                f"dunechest compare {quoted(good[0].label + '/' + good[0].archived_as)} "
                f"{quoted(away[0] + '/' + good[0].archived_as)}"
            )
            yield NextStep(
                f"{message}. What {labels} has of it is another state that diverged. To see how: {look}", ""
            )
        elif good and (full := self._targets(library, library.good, with_room=False)):
            labels = " or ".join(shown(chest.label) for chest in full)
            yield NextStep(
                f"{message}. There is no room on {labels}. Free some, or connect another drive, and {_NEW}", ""
            )
        elif good:
            yield NextStep(f"{message}. Connect another drive, and {_NEW}", "")
        elif library.on_this_computer:
            yield NextStep(f"{message}, and its folder {shown(library.path)} is not there.", "")
        else:
            yield NextStep(f"{message}; archive it again on {shown(library.computer)}, where it comes from.", "")

    def _never_archived(
        self, unprotected: Sequence[Unprotected], wanted: dict[tuple[str, str], list[tuple[str, str]]]
    ) -> Iterable[NextStep]:
        """Yield what other computers are to archive; what this one is to goes with the rest."""
        elsewhere: dict[str, list[str]] = defaultdict(list)
        for found in unprotected:
            if found.computer:
                elsewhere[found.computer].append(found.name)
        for computer, own in elsewhere.items():
            was, it = ("was", "it") if len(own) == 1 else ("were", "them")
            yield NextStep(f"On {shown(computer)}, {_some(own)} {was} never archived. Archive {it} there.", "")
        order = sorted(self._chests, key=lambda chest: (not self._reached(chest.id), chest.label.casefold()))
        strong = [chest for chest in order if not self._lies.get(chest.id, Lies(frozenset())).weak] or order
        for found in unprotected:
            if not found.computer and strong:
                word = self._naming.libraries.get(shown(found.path), found.path)
                if decision := self._refused(None, shown(found.path), strong[0].id):
                    yield from self._decision(found.name, strong[0], decision)
                    continue
                wanted[strong[0].id, ""].append((word, found.name))

    # Age, places, drills.

    def _to_verify(self, chest: ChestStatus) -> Iterable[NextStep]:
        old = [
            library.name
            for library, copy in self._by_chest[chest.id]
            if copy.state == "unchecked" and not library.safe
        ]
        if old:
            words = f"{shown(chest.label)} was not fully checked lately ({number(len(old), 'library', 'libraries')})."
            yield self._step(words, f"dunechest verify {self._naming.chests[chest.id]}", chest.id)

    def _of_rule(self, library: ProtectedLibrary) -> Iterable[NextStep]:
        """Yield what a library lacks that has copies enough."""
        good, name = library.good, shown(library.name)
        if len(good) < library.rule.copies:
            return
        if library.lacks_drives:
            other = next(iter(self._targets(library, good)), None)
            message = f"The copies of {name} are on too few drives."
            if other is None or not (library.on_this_computer and library.there):
                yield NextStep(f"{message} Connect another drive, and {_NEW}", "")
            else:
                word = quoted(self._word(library))
                yield self._step(message, f"dunechest archive {word} --to {self._naming.chests[other.id]}", other.id)
        if library.lacks_places:
            how = f"dunechest chest place {self._naming.chests[good[-1].chest_id]} PLACE"
            yield NextStep(f"The drives with {name} are kept in too few places. Say where one is kept: {how}", "")
        if library.lacks_drill:
            message = f"No copy of {name} passed a drill in the last {number(library.rule.drill_days or 0, 'day')}."
            first = min(good, key=lambda copy: not self._reached(copy.chest_id))
            yield self._step(
                message,
                f"dunechest drill {self._naming.chests[first.chest_id]} {quoted(first.archived_as)}",
                first.chest_id,
            )


def _some(names: Sequence[str]) -> str:
    """Return the first of some names, and how many more there are."""
    more = f" and {len(names) - 4} more" if len(names) > 4 else ""
    return ", ".join(shown(name) for name in names[:4]) + more
