"""How well each library is protected, as far as this computer knows. No drive need be connected."""

from __future__ import annotations

import os
from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from typing import TYPE_CHECKING, ClassVar

import msgspec

from dunechest import clock
from dunechest.jobs.homes import Home, list_homes
from dunechest.jobs.known_chests import ChestStatus, list_chests
from dunechest.jobs.next_steps import next_steps
from dunechest.jobs.protection import Protection, Rules, read_rules
from dunechest.jobs.safety import Copy, NextStep, ProtectedLibrary, State, Unprotected
from dunechest.ledger.folder import state_folder
from dunechest.ledger.ledger import Holding, Ledger, PastCheck, PastDrill
from dunechest.machine.identity import this_machine
from dunechest.names import shown
from dunechest.values import Value
from dunechest.words import number

if TYPE_CHECKING:
    from dunechest.jobs.routine import RoutineState

_DAY = 86_400.0


class Status(Value, msgspec.Struct, frozen=True):
    """How well each library is protected, what to do next, most urgent first, and the chests that are expected.

    `moved` are libraries that were moved to a drive, with where each is now; `routines` say how what runs by itself does.
    """

    _shown: ClassVar[tuple[str, ...]] = ("safe",)
    _document: ClassVar[str] = "status.Status"

    libraries: tuple[ProtectedLibrary, ...]
    unprotected: tuple[Unprotected, ...]
    steps: tuple[NextStep, ...]
    chests: tuple[ChestStatus, ...]
    moved: tuple[Home, ...] = ()
    routines: tuple[RoutineState, ...] = ()

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
    homes = list_homes()
    with open_ledger() as ledger:
        copies = _copies(ledger, chests, rules, homes)
        asides = {aside.path for aside in ledger.asides()}
        seen = tuple(item for item in ledger.seen_libraries() if item[2] not in asides)
    libraries = tuple(sorted(copies, key=lambda library: (library.safe, library.name)))
    called = _called(seen)
    seconds = {str(home.second.path) for home in homes if home.second is not None}
    first = _first_places(homes)
    known = {first.get(library.origin, library.origin) for library in libraries if library.here}
    never: dict[str, Unprotected] = {}
    for name, kind, place in seen:
        own = first.get(shown(place), shown(place))
        if own not in known and place not in seconds and (_there(place) or shown(place) in first):
            never[own] = Unprotected(name, kind, place)
    unprotected = tuple(never.values())
    routines = _routines()
    steps = (*_of_moved(homes), *_of_routines(routines), *next_steps(libraries, unprotected, chests, called))
    return Status(libraries, unprotected, steps, chests, homes, routines)


def _routines() -> tuple[RoutineState, ...]:
    """Return how the routines do; who has none does not wait for what they need to be loaded."""
    if not (state_folder() / "routines").is_dir():
        return ()
    from dunechest.jobs.routine import list_routines

    return list_routines(ask_scheduler=False)


def _of_routines(routines: Iterable[RoutineState]) -> Iterable[NextStep]:
    """Yield what to do about routines that need a person: what was told of them, and what is overdue."""
    for state in routines:
        if state.message:
            command = state.command or f"dunechest routine list {state.name}"
            yield NextStep(f"The routine {shown(state.name)}: {shown(state.message)}", command)
        elif state.overdue:
            labels = ", ".join(map(shown, state.overdue))
            message = (
                f"The routine {shown(state.name)} is overdue: {labels} not connected for longer than it waits for."
            )
            yield NextStep(message, f"dunechest routine list {state.name}")


def _beside(home: Home | None, chests: Iterable[ChestStatus]) -> frozenset[str]:
    """Return the chests that are on the drive that a library was moved to, as far as both are connected."""
    if home is None or not home.connected:
        return frozenset()
    found = set()
    for chest in chests:
        try:
            # A folder that DUNECHEST_DRIVES names is a drive by itself, whatever it lies on.
            if chest.present and not home.past.identity and chest.folder.stat().st_dev == home.place.stat().st_dev:
                found.add(chest.id)
        except OSError:
            continue
    return frozenset(found)


def _first_places(homes: Iterable[Home]) -> dict[str, str]:
    """Return where each moved library was at first, by where it is; both made safe to show."""
    return {shown(place): shown(str(home.old)) for home in homes for place in (str(home.place), home.past.place)}


def _of_moved(homes: Iterable[Home]) -> Iterable[NextStep]:
    """Yield what to do about moved libraries of which there are two, or that their applications do not find."""
    for home in homes:
        if home.second is not None or home.strayed:
            wait = "" if home.connected else " Connect its drive, and make one library of the two."
            yield NextStep(f"{shown(home.name)}: {home.sentence}{wait}", home.command)


def _called(seen: Iterable[tuple[str, str, str]]) -> dict[str, str]:
    """Return what a command can call each library that `find` showed, by its folder: its name, where only one has it."""
    places: dict[str, dict[str, list[str]]] = defaultdict(dict)
    for name, _, place in seen:
        if os.path.exists(place):  # a link that a move left leads to the library itself
            places[name].setdefault(os.path.realpath(place), []).append(place)
    return {
        shown(place): name
        for name, found in places.items()
        if len(found) == 1 and not os.path.lexists(name)
        for own in found.values()
        for place in own
    }


def _there(place: str) -> bool:
    """Whether a library that was found once is still there."""
    return os.path.lexists(place)


def _copies(
    ledger: Ledger, chests: Sequence[ChestStatus], rules: Rules, homes: Sequence[Home]
) -> list[ProtectedLibrary]:
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
    first = _first_places(homes)
    by_old = {shown(str(home.old)): home for home in homes}
    for group in _same_library(held, first):
        newest = max(group, key=lambda item: (item.archived, item.edition))
        rule = rules.of(newest.name)
        copies = tuple(
            _copy(item, newest, expected[item.chest], rule, checks[item.chest], drills[item.chest]) for item in group
        )
        home = by_old.get(first.get(newest.origin, newest.origin)) if newest.machine == here else None
        found.append(
            ProtectedLibrary(
                newest.name, newest.kind, newest.computer, newest.origin, newest.machine == here, newest.files,
                newest.bytes, rule, tuple(sorted(copies, key=lambda copy: copy.label.casefold())),
                home, _beside(home, chests),
            )
        )  # fmt: skip
    return found


def _same_library(held: Iterable[Holding], moved: Mapping[str, str]) -> list[list[Holding]]:
    """Group holdings that are copies of one library: from one folder of one computer, or in one state.

    A name alone says nothing: two libraries may have the same. `moved` says where a moved library was at first.
    """
    groups: list[list[Holding]] = []
    keys: list[set[tuple[str, str]]] = []
    for item in held:
        own = {(item.machine, moved.get(item.origin, item.origin))} | (
            {("state", item.fingerprint)} if item.fingerprint else set()
        )
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
