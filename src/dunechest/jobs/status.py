"""How well each library is protected, as far as this computer knows. No drive need be connected."""

from __future__ import annotations

import os
from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import ClassVar, Literal

from dunechest import clock
from dunechest.jobs.known_chests import ChestStatus, list_chests
from dunechest.jobs.protection import Protection, Rules, read_rules
from dunechest.ledger.folder import state_folder
from dunechest.ledger.ledger import Holding, Ledger, PastCheck, PastDrill
from dunechest.machine.identity import this_machine
from dunechest.names import quoted, shown
from dunechest.values import Value
from dunechest.words import number

_DAY = 86_400.0
#: What can be the matter with a copy, the worst first.
State = Literal["missing", "damaged", "incomplete", "behind", "unchecked", "safe"]


@dataclass(frozen=True, slots=True, repr=False)
class Copy(Value):
    """A copy of a library in a chest. Times are seconds since 1970.

    `state` is ``safe``; ``unchecked`` (not fully checked lately); ``behind`` (another chest has a later state);
    ``incomplete`` (a part, or files are missing in it); ``damaged`` (the last check or drill failed) or ``missing`` (the
    library was gone when the chest was last seen). `checked` is when every byte was last found intact, by a check or when it
    was archived; `drilled` when it last passed a drill, None if it did not.
    """

    _shown: ClassVar[tuple[str, ...]] = ("label", "state", "edition")
    _document: ClassVar[str] = "status.Copy"

    label: str
    chest: str
    bag: str
    state: State
    edition: int
    archived: float
    checked: float | None
    drilled: float | None
    place: str
    drive: str


@dataclass(frozen=True, slots=True, repr=False)
class ProtectedLibrary(Value):
    """A library, its copies, and whether they are enough.

    `origin` is its folder on the computer that it came from; `here` says whether that is this computer.
    """

    _shown: ClassVar[tuple[str, ...]] = ("name", "safe")
    _document: ClassVar[str] = "status.ProtectedLibrary"

    name: str
    kind: str
    computer: str
    origin: str
    here: bool
    files: int
    bytes: int
    rule: Protection
    copies: tuple[Copy, ...]

    @property
    def good(self) -> tuple[Copy, ...]:
        """The copies that count: one for each drive, unless fewer drives than copies are asked for."""
        safe = [copy for copy in self.copies if copy.state == "safe"]
        if self.rule.own_drives < self.rule.copies:
            return tuple(safe)
        drives: dict[str, Copy] = {}
        for copy in safe:
            drives.setdefault(copy.drive or copy.chest, copy)
        return tuple(drives.values())

    @property
    def good_count(self) -> int:
        """Number of the copies that count."""
        return len(self.good)

    @property
    def safe(self) -> bool:
        """Whether the rule is kept."""
        return len(self.good) >= self.rule.copies and not (self.lacks_drives or self.lacks_places or self.lacks_drill)

    @property
    def lacks_drives(self) -> bool:
        """Whether its good copies are on too few drives."""
        return len({copy.drive or copy.chest for copy in self.good}) < self.rule.own_drives

    @property
    def lacks_places(self) -> bool:
        """Whether the drives with its good copies are kept in too few places."""
        return len({copy.place for copy in self.good}) < self.rule.places

    @property
    def lacks_drill(self) -> bool:
        """Whether a drill is asked for, and no good copy passed one lately."""
        days = self.rule.drill_days
        return days is not None and not any(
            copy.drilled is not None and clock.now() - copy.drilled <= days * _DAY for copy in self.good
        )


@dataclass(frozen=True, slots=True, repr=False)
class NextStep(Value):
    """Something to do: why, and the command that does it; empty where only a person can."""

    _shown: ClassVar[tuple[str, ...]] = ("command",)
    _document: ClassVar[str] = "status.Step"

    message: str
    command: str


@dataclass(frozen=True, slots=True, repr=False)
class Unprotected(Value):
    """A library that `find` showed and that is in no chest."""

    _shown: ClassVar[tuple[str, ...]] = ("name",)
    _document: ClassVar[str] = "status.Unprotected"

    name: str
    kind: str
    path: str


@dataclass(frozen=True, slots=True, repr=False)
class Status(Value):
    """How well each library is protected, what to do next, most urgent first, and the chests that are expected."""

    _shown: ClassVar[tuple[str, ...]] = ("safe",)
    _document: ClassVar[str] = "status.Status"

    libraries: tuple[ProtectedLibrary, ...]
    unprotected: tuple[Unprotected, ...]
    steps: tuple[NextStep, ...]
    chests: tuple[ChestStatus, ...]

    @property
    def safe(self) -> bool:
        """Whether every library that is known is safe."""
        return not self.unprotected and all(library.safe for library in self.libraries)

    @property
    def verdict(self) -> str:
        """Whether they are, in a sentence."""
        count = len(self.libraries) + len(self.unprotected)
        if not count:
            return "Nothing is known yet. To begin: dunechest find"
        if self.safe:
            return f"SAFE: {'The only library is' if count == 1 else f'All {count:,} libraries are'} protected."
        wrong = len(self.unprotected) + sum(not library.safe for library in self.libraries)
        return f"NOT SAFE: {wrong:,} of {number(count, 'library', 'libraries')} not protected."


def status() -> Status:
    """Say how well each library is protected, from what this computer has seen.

    Returns
    -------
    Status
        Nothing on a drive is read: what changed there since is not known.

    Raises
    ------
    UsageError
        If the rules in the settings cannot be understood.
    """
    from dunechest.ledger.ledger import open_ledger

    rules = read_rules()
    chests = tuple(known for known in list_chests().chests if known.retired is None)
    with open_ledger() as ledger:
        copies = _copies(ledger, chests, rules)
        seen = ledger.seen_libraries()
    libraries = tuple(sorted(copies, key=lambda library: (library.safe, library.name)))
    known = {library.origin for library in libraries if library.here}
    called = _called(seen)
    unprotected = tuple(
        Unprotected(name, kind, place) for name, kind, place in seen if shown(place) not in known and _there(place)
    )
    return Status(libraries, unprotected, tuple(_steps(libraries, unprotected, chests, called)), chests)


def _called(seen: Iterable[tuple[str, str, str]]) -> dict[str, str]:
    """Return what a command can call each library that `find` showed, by its folder: its name, where only one has it."""
    places = defaultdict(list)
    for name, _, place in seen:
        places[name].append(place)
    return {shown(found[0]): name for name, found in places.items() if len(found) == 1 and not os.path.lexists(name)}


def _there(place: str) -> bool:
    """Whether a library that was found once is still there."""
    return os.path.lexists(place)


def _copies(ledger: Ledger, chests: Sequence[ChestStatus], rules: Rules) -> list[ProtectedLibrary]:
    expected = {chest.id: chest for chest in chests}
    held: list[Holding] = []
    for holding in ledger.holdings():
        if holding.chest in expected:
            held.append(holding)
    forgotten = {chest: ledger.forgotten_in(chest) for chest in expected}
    held = [item for item in held if item.name and forgotten[item.chest].get(item.bag, 0.0) < item.when]
    checks = {chest: ledger.checks(chest) for chest in expected}
    drills = {chest: ledger.drills(chest) for chest in expected}
    here = this_machine(state_folder()).id
    found = []
    for group in _same_library(held):
        newest = max(group, key=lambda item: (item.archived, item.edition))
        rule = rules.of(newest.name)
        copies = tuple(
            _copy(item, newest, expected[item.chest], rule, checks[item.chest], drills[item.chest]) for item in group
        )
        found.append(
            ProtectedLibrary(
                newest.name, newest.kind, newest.computer, newest.origin, newest.machine == here, newest.files,
                newest.bytes, rule, tuple(sorted(copies, key=lambda copy: copy.label.casefold())),
            )
        )  # fmt: skip
    return found


def _same_library(held: Iterable[Holding]) -> list[list[Holding]]:
    """Group holdings that are copies of one library: from one folder of one computer, or in one state.

    A name alone says nothing: two libraries may have the same.
    """
    groups: list[list[Holding]] = []
    keys: list[set[tuple[str, str]]] = []
    for item in held:
        own = {(item.machine, item.origin)} | ({("state", item.fingerprint)} if item.fingerprint else set())
        first, *others = [i for i, known in enumerate(keys) if known & own] or [len(groups)]
        if first == len(groups):
            groups.append([])
            keys.append(set())
        groups[first].append(item)
        keys[first] |= own
        for other in reversed(others):
            groups[first] += groups.pop(other)
            keys[first] |= keys.pop(other)
    return groups


def _copy(
    item: Holding,
    newest: Holding,
    chest: ChestStatus,
    rule: Protection,
    checks: Iterable[PastCheck],
    drills: Iterable[PastDrill],
) -> Copy:
    own_checks = [check for check in checks if check.bag == item.bag and _counts(check.where, item.where)]
    own_drills = [past for past in drills if past.bag == item.bag and _counts(past.where, item.where)]
    full = next((check for check in own_checks if not check.quick), None)
    # A quick check that finds something counts; one that finds nothing cannot take back what a full one found.
    failed = next((check for check in own_checks if not check.intact), None)
    passed = max((check.when for check in own_checks if check.intact and not check.quick), default=0.0)
    checked = max(passed, item.archived)
    drilled = next(iter(own_drills), None)
    bad = (failed is not None and failed.when > checked) or (
        drilled is not None and not drilled.passed and drilled.when > checked
    )
    same_state = bool(item.fingerprint) and item.fingerprint == newest.fingerprint
    current = item is newest or same_state or (not item.fingerprint and item.archived >= newest.archived)
    state: State = "safe"
    if item.gone:
        state = "missing"
    elif bad or (full is not None and not full.intact and full.when >= checked):
        state = "damaged"
    elif item.partial or item.incomplete:
        state = "incomplete"
    elif not current:
        state = "behind"
    elif clock.now() - checked > rule.days * _DAY:
        state = "unchecked"
    last = drilled.when if drilled is not None and drilled.passed else None
    return Copy(
        chest.label, chest.id, item.bag, state, item.edition, item.archived, checked or None, last, chest.place, item.drive
    )  # fmt: skip


def _counts(there: str, here: str) -> bool:
    """Whether what was noted of a chest in one place counts for the one in another: not if that is a copy of it."""
    return not there or not here or there == here


def _steps(
    libraries: Sequence[ProtectedLibrary],
    unprotected: Sequence[Unprotected],
    chests: Sequence[ChestStatus],
    called: Mapping[str, str],
) -> Iterable[NextStep]:
    """Yield what to do: damage first, then libraries with too few copies, then what is old."""
    for chest in chests:
        yield from _to_mend(libraries, chest)
    if not chests and (libraries or unprotected):
        yield NextStep("There is no chest yet.", "dunechest chest new FOLDER --label NAME")
        return
    yield from _to_archive(libraries, unprotected, chests, called)
    if len(chests) < max((library.rule.copies for library in libraries), default=0):
        words = f"Only {number(len(chests), 'drive')} known: one copy is not a backup. Connect another drive."
        yield NextStep(words, "dunechest chest new FOLDER --label NAME")
    for chest in chests:
        old = [
            library.name
            for library in libraries
            if not library.safe
            for copy in library.copies
            if copy.chest == chest.id and copy.state == "unchecked"
        ]
        if old:
            message = (
                f"{shown(chest.label)} was not fully checked lately ({number(len(old), 'library', 'libraries')})."
            )
            yield NextStep(message, f"dunechest verify {quoted(chest.label)}")
    for library in libraries:
        good, name = library.good, shown(library.name)
        if library.safe or len(good) < library.rule.copies:
            continue
        if library.lacks_drives:
            held = {copy.chest for copy in library.copies}
            other = next((quoted(chest.label) for chest in chests if chest.id not in held), "CHEST")
            word = quoted(called.get(library.origin, library.origin))
            yield NextStep(f"The copies of {name} are on too few drives.", f"dunechest archive {word} --to {other}")
        if library.lacks_places:
            message = f"The drives with {name} are kept in too few places."
            yield NextStep(message, f"dunechest chest place {quoted(good[-1].label)} PLACE")
        if library.lacks_drill:
            message = f"No copy of {name} passed a drill in the last {number(library.rule.drill_days or 0, 'day')}."
            yield NextStep(message, f"dunechest drill {quoted(good[0].label)} {quoted(good[0].bag)}")


def _from_elsewhere(library: ProtectedLibrary, chests: Sequence[ChestStatus]) -> NextStep:
    """Say how a library of another computer gets another copy: from a good one, if there is one."""
    good = library.good
    message = f"{shown(library.name)} has {number(len(good), 'good copy', 'good copies')}"
    if good and chests:
        command = f"dunechest copy {quoted(good[0].label)} {quoted(chests[0].label)} {quoted(good[0].bag)}"
        return NextStep(f"{message}.", command)
    return NextStep(f"{message}; archive it again on {shown(library.computer)}, where it comes from.", "")


def _to_mend(libraries: Sequence[ProtectedLibrary], chest: ChestStatus) -> Iterable[NextStep]:
    """Yield what to do about copies in a chest that are damaged or gone: another good copy mends or replaces them."""
    for state, one, several in (("damaged", "is damaged", "are damaged"), ("missing", "is gone", "are gone")):
        bad = [
            (library, copy)
            for library in libraries
            for copy in library.copies
            if copy.chest == chest.id and copy.state == state
        ]
        if not bad:
            continue
        names = ", ".join(shown(library.name) for library, _ in bad)
        message = f"{names} on {shown(chest.label)} {one if len(bad) == 1 else several}."
        label, bags = quoted(chest.label), " ".join(quoted(copy.bag) for _, copy in bad)
        helpers = [good.label for library, copy in bad for good in library.good if good.bag == copy.bag]
        if not helpers:
            yield NextStep(message, f"dunechest verify {label}")
        elif state == "damaged":
            froms = " ".join(f"--from {quoted(helper)}" for helper in dict.fromkeys(helpers))
            yield NextStep(message, f"dunechest mend {label} {bags} {froms}")
        else:
            yield NextStep(message, f"dunechest copy {quoted(helpers[0])} {label} {bags}")


def _to_archive(
    libraries: Sequence[ProtectedLibrary],
    unprotected: Sequence[Unprotected],
    chests: Sequence[ChestStatus],
    called: Mapping[str, str],
) -> Iterable[NextStep]:
    """Yield one command for each chest that some libraries are to be archived to."""
    wanted: dict[str, list[str]] = defaultdict(list)
    names: dict[str, list[str]] = defaultdict(list)
    for library in libraries:
        states = {copy.chest: copy.state for copy in library.copies}
        # One that only was not checked lately is checked, which is told below, and need not be made again.
        aged = {copy.drive or copy.chest for copy in library.copies if copy.state == "unchecked"}
        aged -= {copy.drive or copy.chest for copy in library.good}
        lacking = library.rule.copies - len(library.good) - len(aged)
        if library.safe or lacking <= 0:
            continue
        # An outdated copy is brought up to date first; then chests without one, those that are connected first.
        order = sorted(
            (chest for chest in chests if states.get(chest.id) in (None, "behind", "incomplete")),
            key=lambda chest: (states.get(chest.id) is None, not chest.present, chest.label.casefold()),
        )
        if not library.here:
            yield _from_elsewhere(library, [chest for chest in order if states.get(chest.id) in (None, "behind")])
            continue
        for chest in order[:lacking]:
            wanted[chest.label].append(library.origin)
            names[chest.label].append(library.name)
    first = min(chests, key=lambda chest: (not chest.present, chest.label.casefold()), default=None)
    if first is not None:
        for found in unprotected:
            wanted[first.label].append(found.path)
            names[first.label].append(found.name)
    for label, paths in wanted.items():
        some = ", ".join(shown(name) for name in names[label][:4])
        more = f" and {len(paths) - 4} more" if len(paths) > 4 else ""
        words = [quoted(called.get(shown(path), path)) for path in dict.fromkeys(paths)]
        command = " ".join(["dunechest archive", *words, "--to", quoted(label)])
        yield NextStep(f"Not enough copies of {some}{more}.", command)
