"""The libraries that are in chests, each with its copies and how well each of them is."""

from __future__ import annotations

import os
from collections.abc import Iterable

import msgspec
from msgspec.structs import replace

from dunechest import clock
from dunechest.jobs.known.everything import Known
from dunechest.jobs.known.holdings import MOST_STATES
from dunechest.jobs.known.protection import Rules
from dunechest.jobs.known.same_library import same_library
from dunechest.ledger.ledger import Holding, PastArchive, PastCheck, PastDrill, PutBack
from dunechest.machine.volumes import is_same_place
from dunechest.model.chests import ChestStatus
from dunechest.model.homes import Home
from dunechest.model.overview import Copy, ProtectedLibrary, Protection, State
from dunechest.names import shown

_DAY, _HOUR = 86_400.0, 3600.0


def copies_of(known: Known, rules: Rules) -> list[tuple[ProtectedLibrary, str]]:
    """Return the libraries that are in chests, each with the id of the computer that it comes from."""
    expected = {chest.id: chest for chest in known.chests}
    forgotten = {chest: known.ledger.forgotten_in(chest) for chest in expected}
    held = [
        item
        for item in known.ledger.holdings()
        if item.chest in expected and item.name and forgotten[item.chest].get(item.bag, 0) < item.turn
    ]
    harmed = [item for item in known.ledger.harmed() if item.could_be_damage]
    past = {
        chest: _Past(
            known.ledger.checks(chest),
            known.ledger.drills(chest),
            known.ledger.archives(chest),
            known.ledger.put_back(chest),
            tuple(item.turn for item in harmed if item.chest == chest or item.chest not in expected),
        )
        for chest in expected
    }
    ahead = known.ledger.unfinished() if known.office is None else {}
    found = []
    for (machine, place), group in same_library(held, known):
        newest = _newest(group, known)
        here = machine == known.here
        if known.only is not None and machine != known.only:
            continue
        rule = rules.of(newest.name)
        copies = tuple(_copy(item, newest, expected[item.chest], rule, past[item.chest]) for item in group)
        if here and (_is_ahead(group, ahead.get(place)) or place in _not_held(group, place, known)):
            copies = tuple(
                replace(copy, state="behind") if copy.state in ("safe", "unchecked") else copy for copy in copies
            )
        home = known.home_of(machine, place)
        origin = place if newest.machine != machine else newest.origin
        computer = known.name if here and known.name else known.names.get(machine, newest.computer)
        library = ProtectedLibrary(
            newest.name, newest.kind, computer, origin, here, newest.files, newest.bytes, rule,
            tuple(sorted(copies, key=lambda copy: copy.label.casefold())), home, _beside(home, known.chests),
            there=not here or os.path.lexists(origin) or (home is not None),
            unknown_here=here and newest.machine != known.here and newest.state not in known.ledger.states_now(),
        )  # fmt: skip
        found.append((library.with_reasons(), machine))
    return found


def _is_ahead(group: list[Holding], begun: str | None) -> bool:
    """Whether a library had something, when its next edition was begun, that no chest has."""
    return begun is not None and not any(begun and item.fingerprint == begun for item in group)


def _not_held(group: list[Holding], place: str, known: Known) -> frozenset[str]:
    """Return the place of a library if its last state here is in no chest: its edition was decided, and never made."""
    if known.office is not None:
        return frozenset()
    home = next((home for home in known.own_homes if shown(str(home.old_path)) == place), None)
    states = list(known.ledger.states_at((place, shown(str(home.path))) if home is not None else (place,)))
    held = {state for item in group for state in (item.state, *item.follows.split())}
    known_all = all(item.state for item in group)
    return (
        frozenset({place})
        if states and known_all and states[-1] not in held and os.path.lexists(place)
        else frozenset()
    )


def _newest(group: list[Holding], known: Known) -> Holding:
    """Return the holding with the newest state: the one that the library had last here, or that no other one follows."""
    order: list[str] = []
    if known.office is None:
        places = {item.origin for item in group if item.machine == known.here}
        places |= {shown(str(home.path)) for home in known.homes if shown(str(home.old_path)) in places}
        order = list(known.ledger.states_at(places))
    followed = {state for item in group for state in item.follows.split()}
    return max(
        group,
        key=lambda item: (
            order.index(item.state) if item.state in order else -1,
            item.state not in followed,
            item.archived,
            item.edition,
        ),
    )


def _is_same_state(item: Holding, newest: Holding) -> bool:
    """Whether two chests hold the same of a library.

    What was looked at, without what could not be seen, may be the same where what they hold is not.
    """
    if item.state and newest.state:
        if item.state == newest.state:
            return True
        if item.carried or newest.carried or item.files != newest.files:
            return False
    return bool(item.fingerprint) and item.fingerprint == newest.fingerprint


def _has_diverged(item: Holding, newest: Holding) -> bool:
    """Whether a state is not the newest one, nor one that it came after, as far as those are noted."""
    follows = newest.follows.split()
    return (
        bool(item.state and newest.state)
        and item.state not in (newest.state, *follows)
        and len(follows) < MOST_STATES
    )


class _Past(msgspec.Struct, frozen=True):
    """What was found of a chest, and archived to it, the last of each first."""

    checks: tuple[PastCheck, ...]
    drills: tuple[PastDrill, ...]
    archives: tuple[PastArchive, ...]
    put_back: tuple[PutBack, ...]
    doubts: tuple[int, ...]

    def proven(self, item: Holding) -> tuple[int, float]:
        """Return when every byte of a bag was last found right: the turn, and the moment (seconds since 1970).

        A later edition proves what it wrote, and nothing of what lay there before. Of a bag that came by other means, as a
        copy that was made by hand or an older image of its drive, nothing is proven until it is checked: then the moment is
        0.
        """
        # What is harmed may have told of damage.
        doubts = [*self.doubts, *(back.turn for back in self.put_back if back.where == item.where)]
        after = max(doubts, default=0)
        proofs = [
            (check.turn, check.when)
            for check in self.checks
            if check.bag == item.bag and check.intact and not check.quick and is_same_place(check.where, item.where)
        ]
        proofs += [
            (archive.turn, archive.when)
            for archive in self.archives
            if archive.bag == item.bag and archive.edition == 1 and is_same_place(archive.where, item.where)
        ]
        return max((proof for proof in proofs if proof[0] > after), default=(0, 0.0))


def _copy(item: Holding, newest: Holding, chest: ChestStatus, rule: Protection, past: _Past) -> Copy:
    checks = [check for check in past.checks if check.bag == item.bag]
    drills = [drill for drill in past.drills if drill.bag == item.bag]
    # Good news counts only of the medium that it is of; bad news of whatever bears the chest's name.
    since, checked = past.proven(item)
    # A quick check that finds something counts; one that finds nothing cannot take back what a full one found.
    failed = next((check for check in checks if not check.intact), None)
    drilled = next((d for d in drills if not d.passed or is_same_place(d.where, item.where)), None)
    # What was found wrong stands until every byte was found right after it: no later edition, and no date, takes it back.
    bad = (failed is not None and failed.turn > since) or (
        drilled is not None and not drilled.passed and drilled.turn > since
    )
    later = not item.fingerprint and not item.state and item.archived >= newest.archived
    current = item is newest or _is_same_state(item, newest) or later
    state: State = "safe"
    if item.gone:
        state = "missing"
    elif bad:
        state = "damaged"
    elif item.partial or item.incomplete:
        state = "incomplete"
    elif not current:
        state = "behind"
    elif clock.now() - checked > rule.days * _DAY:
        state = "unchecked"
    last = drilled.when if drilled is not None and drilled.passed else None
    return Copy(
        chest.label, chest.id, item.bag, state, item.edition, item.archived, checked or None, last,
        chest.kept_at_place, item.drive,
        item.carried, item.disk, item.weak, proof=since,
        tried=failed.turn if bad and failed is not None and failed.how == "mend" else 0,
        diverged=_has_diverged(item, newest),
        examined=bad and failed is not None and failed.turn > since and not failed.quick,
    )  # fmt: skip


def _beside(home: Home | None, chests: Iterable[ChestStatus]) -> frozenset[str]:
    """Return the chests that are on the drive that a library was moved to, as far as both are connected."""
    if home is None or not home.connected:
        return frozenset()
    found = set()
    for chest in chests:
        try:
            # A folder that DUNECHEST_DRIVES names is a drive by itself, whatever it lies on.
            if chest.connected and not home.past.identity and chest.path.stat().st_dev == home.path.stat().st_dev:
                found.add(chest.id)
        except OSError:
            continue
    return frozenset(found)
