"""How well each library is protected, as far as this computer knows. No drive need be connected."""

from __future__ import annotations

import os
import time
from collections import defaultdict
from collections.abc import Collection, Iterable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, ClassVar

import msgspec
from msgspec.structs import replace

from dunechest import clock
from dunechest.jobs.archive.options import LASTING_CODES
from dunechest.jobs.homes import Home
from dunechest.jobs.known import Known, OfficeSeen, known_here
from dunechest.jobs.known_chests import ChestStatus
from dunechest.jobs.loose import ignored_places, is_ignored
from dunechest.jobs.next_steps import Lies, next_steps
from dunechest.jobs.protection import Protection, Rules, read_rules
from dunechest.jobs.safety import Copy, NextStep, ProtectedLibrary, State, Unprotected
from dunechest.jobs.same_library import same_library
from dunechest.ledger.folder import state_folder
from dunechest.ledger.ledger import Holding, PastArchive, PastCheck, PastDrill, PastLoose, PastRefusal, PutBack
from dunechest.ledger.settings import settings_file
from dunechest.machine.drives import drive_identity
from dunechest.machine.physical import physical
from dunechest.machine.volumes import is_same_place
from dunechest.names import quoted, shown, slug
from dunechest.paths import prefix_of
from dunechest.values import Value
from dunechest.words import number

if TYPE_CHECKING:
    from dunechest.jobs.routine import RoutineState

_DAY, _HOUR = 86_400.0, 3600.0


class Status(Value, msgspec.Struct, frozen=True):
    """How well each library is protected, what to do next, most urgent first, and the chests that are expected.

    `moved` are libraries that were moved to a drive, with where each is now; `routines` say how what runs by itself does.
    `office` is set if the answer is that of an office. `elsewhere` counts libraries of other computers that are not shown,
    and `unreadable` entries of this computer's own record that are harmed.
    """

    _shown: ClassVar[tuple[str, ...]] = ("safe",)
    _document: ClassVar[str] = "status.Status"

    libraries: tuple[ProtectedLibrary, ...]
    unprotected: tuple[Unprotected, ...]
    steps: tuple[NextStep, ...]
    chests: tuple[ChestStatus, ...]
    moved: tuple[Home, ...] = ()
    routines: tuple[RoutineState, ...] = ()
    office: OfficeSeen | None = None
    elsewhere: int = 0
    unreadable: int = 0

    @property
    def safe(self) -> bool:
        """Whether every library that is known is safe, and nothing that this computer knew is unreadable."""
        return self._all_safe and not self.unreadable

    @property
    def _all_safe(self) -> bool:
        return not self.unprotected and all(library.safe for library in self.libraries)

    @property
    def verdict(self) -> str:
        """Whether they are, in a sentence."""
        count = len(self.libraries) + len(self.unprotected)
        if not count and self.unreadable:
            return "NOT CERTAIN: this computer's own record is damaged. What drives hold is known again when they are connected."
        if not count and self.elsewhere:
            return "Nothing of this computer is archived, as far as is known. To begin: dunechest find"
        if not count:
            return "Nothing is known yet. To begin: dunechest find"
        if self._all_safe and self.unreadable:
            return "NOT CERTAIN: this computer's own record is damaged."
        if self.safe:
            return f"SAFE: {'The only library is' if count == 1 else f'All {count:,} libraries are'} protected{self._of}."
        wrong = len(self.unprotected) + sum(not library.safe for library in self.libraries)
        return f"NOT SAFE: {wrong:,} of {number(count, 'library', 'libraries')} not protected{self._of}."

    @property
    def _of(self) -> str:
        """Whose libraries these are, if not this computer's."""
        if self.office is None:
            return ""
        return f" on {shown(self.office.computer)}" if self.office.computer else " in the office"


def status(*, office: bool = False, computer: str | None = None, everyone: bool = False) -> Status:
    """Say how well each library is protected, from what this computer has seen.

    Parameters
    ----------
    office : bool
        Answer from what all computers of the office have seen, for the libraries of all of them. The rules are those in the
        settings of this computer.
    computer : str, optional
        Only for the libraries of this computer of the office.
    everyone : bool
        For the libraries of all computers that this one heard of through drives, too.

    Returns
    -------
    Status
        Nothing on a drive is read: what changed there since is not known.

    Raises
    ------
    UsageError
        If the rules in the settings cannot be understood, or this computer belongs to no office that is asked for.
    OfficeUnreachableError
        If the office's server cannot be reached, and this computer never saw what it knows.
    """
    rules = read_rules()
    if office or computer is not None:
        from dunechest.jobs.office.known import known_in_office

        known = known_in_office(computer)
    else:
        known = known_here()
    every = sorted(_copies(known, rules), key=lambda pair: (pair[0].safe, pair[0].name))
    libraries = tuple(pair for pair in every if everyone or known.office is not None or pair[0].here)
    archived = {(machine, known.first_place(machine, library.origin)) for library, machine in libraries}
    seconds = {(known.here, str(home.second.path)) for home in known.own_homes if home.second is not None}
    never: dict[tuple[str, str], Unprotected] = {}
    ignored = ignored_places() if known.office is None else frozenset()
    whole = {place for machine, place in archived if machine == known.here}
    for found in known.found:
        if not found.computer and (is_ignored(found.place, ignored) or _is_inside(shown(found.place), whole)):
            continue  # a library inside an archived one is archived
        own = known.first_place(found.machine, shown(found.place))
        moved = shown(found.place) in known.moved.get(found.machine, {})
        if (found.machine, own) in archived or (found.machine, found.place) in seconds or not (found.there or moved):
            continue
        never[found.machine, own] = Unprotected(found.name, found.kind, found.place, found.computer)
    loose = _loose(known, whole, ignored)
    for folder in loose:
        if folder.standard:
            name = slug(Path(folder.place).name)
            never.setdefault((known.here, folder.place), Unprotected(name, "files in no library", folder.place))
    protected = tuple(
        library for library, _ in libraries if not (library.here and is_ignored(library.origin, ignored))
    )
    unprotected = tuple(never.values())
    routines = _routines() if known.office is None else ()
    steps = (
        *_of_moved(known.own_homes),
        *_of_routines(routines),
        *_of_office(),
        *_of_clock(known),
        *_of_put_back(known),
        *_of_harmed(known),
        *next_steps(protected, unprotected, known.chests, _called(known), _lies(known, protected), _refusals(known)),
        *_of_strangers(protected, known),
        *_of_loose([folder for folder in loose if not folder.standard]),
    )
    chests = known.shown_chests(protected)
    elsewhere = len(every) - len(libraries)
    return Status(
        protected,
        unprotected,
        steps,
        chests,
        known.homes,
        routines,
        known.office,
        elsewhere,
        len(known.ledger.harmed()),
    )


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


def _of_office() -> Iterable[NextStep]:
    """Yield what to do if the office hears nothing of this computer for long; who has none does not wait for it."""
    if not settings_file().is_file():
        return
    from dunechest.jobs.office.exchange import told_long_ago

    why = told_long_ago()
    if why:
        yield NextStep(
            f"The office has not heard of this computer for more than a week. {why}", "dunechest office send"
        )


def _lies(known: Known, libraries: Iterable[ProtectedLibrary]) -> dict[str, Lies]:
    """Return where chests lie, by id, and libraries of this computer, by folder: as they are now, or as they were last."""
    found: dict[str, Lies] = {}
    for library in libraries:
        for copy in library.copies:
            weak = "" if copy.weak == "library-disk" else copy.weak
            found.setdefault(copy.chest, Lies(copy.marks, weak))
    for chest in known.chests:
        if chest.present and known.office is None:
            try:
                lies = physical(chest.folder)
            except OSError:
                continue
            drive = drive_identity(chest.folder) or chest.id
            marks = frozenset({drive, *(f"disk {disk}" for disk in lies.disks)})
            found[chest.id] = Lies(marks, lies.weakness, lies.names)
    if not any(lies.names for lies in found.values()):
        return found
    for library in libraries:
        if library.here and not library.safe and library.there:
            try:
                found[library.origin] = Lies(frozenset(), "", physical(Path(library.origin)).names)
            except OSError:
                continue
    return found


def _is_inside(place: str, folders: Iterable[str]) -> bool:
    return any(place.startswith(prefix_of(folder)) for folder in folders)


def _loose(known: Known, whole: Collection[str], ignored: Collection[str]) -> list[PastLoose]:
    """Return the folders with files in no library that are in no chest either, as far as they are there."""
    if known.office is not None:
        return []
    return [
        folder
        for folder in known.ledger.loose()
        if os.path.isdir(folder.place)
        and shown(folder.place) not in whole
        and not _is_inside(shown(folder.place), whole)
        and not is_ignored(folder.place, ignored)
    ]


def _of_loose(loose: Sequence[PastLoose]) -> Iterable[NextStep]:
    """Yield how many files of a person's own are in no library and in no chest, if any are."""
    if loose:
        files = sum(folder.files for folder in loose)
        count, are = number(files, "file"), "is" if files == 1 else "are"
        names = ", ".join(shown(Path(folder.place).name) for folder in loose[:4])
        more = f" and {len(loose) - 4} more" if len(loose) > 4 else ""
        words = f"{count} under your home {are} in no library and in no chest: {names}{more}. Archive a folder by its path"
        yield NextStep(f"{words}, or say that it is not worth it: dunechest find --ignore FOLDER", "")


def _refusals(known: Known) -> Iterable[PastRefusal]:
    """Yield what was not archived and would be refused again."""
    if known.office is None:
        for refused in known.ledger.refusals():
            if refused.code in LASTING_CODES or clock.now() - refused.when < _DAY:
                yield refused


def _of_put_back(known: Known) -> Iterable[NextStep]:
    """Yield what to do about chests that are older than what is known of them."""
    for chest in known.chests:
        for back in known.ledger.put_back(chest.id)[:1]:
            checks = {c.bag for c in known.ledger.checks(chest.id) if c.intact and not c.quick and c.turn > back.turn}
            held = {item.bag for item in known.ledger.holdings() if item.chest == chest.id and not item.gone}
            if held - checks:
                words = (
                    f"{shown(chest.label)} is older than what is known of it: an older image of its drive may have been put "
                    f"back. Its log lacks {number(back.missing, 'entry', 'entries')}. Check what it holds."
                )
                yield NextStep(words, f"dunechest verify {quoted(chest.label)}")


def _of_clock(known: Known) -> Iterable[NextStep]:
    """Yield that the clock went back, or was ahead before: what came after what is known all the same."""
    last, now = known.ledger.last_moment, clock.now()
    if known.office is None and last is not None and last > now + _HOUR:
        words = f"The clock of this computer says {_day(now)}, and what it noted last is dated {_day(last)}."
        yield NextStep(
            f"{words} Set the clock if it is wrong. The order of checks and archives does not rest on it.", ""
        )


def _day(moment: float) -> str:
    return time.strftime("%Y-%m-%d %H:%M", time.localtime(moment))


def _of_harmed(known: Known) -> Iterable[NextStep]:
    """Yield that this computer's own record is damaged, if it is; a check of the drives replaces what is lost."""
    harmed = known.ledger.harmed()
    if harmed:
        entries = number(len(harmed), "entry", "entries")
        words = (
            f"This computer's own record is damaged: {entries} cannot be read. What that could have said of copies"
        )
        yield NextStep(
            f"{words} is found out by a full check of each drive; nothing that is archived is touched by it.", ""
        )


def _of_strangers(libraries: Iterable[ProtectedLibrary], known: Known) -> Iterable[NextStep]:
    """Yield whom to ask about: computers that checked what this one did not, if they are this person's."""
    if known.office is not None:
        return
    from dunechest.ledger.trust import other_computers

    vouched, others = known.ledger.vouched(), other_computers()
    waiting = {
        (copy.chest, copy.bag)
        for library in libraries
        if not library.safe
        for copy in library.copies
        if copy.state == "unchecked"
    }
    computers = {computer.id: computer for computer in known.ledger.computers()}
    for own in dict.fromkeys(
        by for chest, bag, by in sorted(vouched) if (chest, bag) in waiting and by not in others
    ):
        if own not in computers:
            continue
        name = computers[own].name
        alike = sum(item.name.casefold() == name.casefold() for item in computers.values())
        word = name if name and alike == 1 and not name.startswith("-") else own[:8]
        message = f"The computer {shown(name)} checked copies that this computer did not. If it is yours, they count here too."
        yield NextStep(message, f"dunechest computers mine {quoted(word)}")


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


def _of_moved(homes: Iterable[Home]) -> Iterable[NextStep]:
    """Yield what to do about moved libraries of which there are two, or that their applications do not find."""
    for home in homes:
        if home.second is not None or home.strayed:
            wait = "" if home.connected else " Connect its drive, and make one library of the two."
            yield NextStep(f"{shown(home.name)}: {home.sentence}{wait}", home.command)


def _called(known: Known) -> dict[str, str]:
    """Return what a command can call each library of this computer, by its folder: its name, where only one has it."""
    places: dict[str, dict[str, list[str]]] = defaultdict(dict)
    for found in known.found:
        if found.machine == known.here and os.path.exists(
            found.place
        ):  # a link of a move leads to the library itself
            places[found.name].setdefault(os.path.realpath(found.place), []).append(found.place)
    return {
        shown(place): name
        for name, found_there in places.items()
        if len(found_there) == 1 and not os.path.lexists(name)
        for own in found_there.values()
        for place in own
    }


def _copies(known: Known, rules: Rules) -> list[tuple[ProtectedLibrary, str]]:
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
    ahead = known.ledger.unfinished() if known.office is None else frozenset()
    found = []
    for (machine, place), group in same_library(held, known):
        newest = _newest(group, known)
        here = machine == known.here
        if known.only is not None and machine != known.only:
            continue
        rule = rules.of(newest.name)
        copies = tuple(_copy(item, newest, expected[item.chest], rule, past[item.chest]) for item in group)
        if here and place in ahead | _not_held(group, place, known):
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


def _not_held(group: list[Holding], place: str, known: Known) -> frozenset[str]:
    """Return the place of a library if its last state here is in no chest: its edition was decided, and never made."""
    if known.office is not None:
        return frozenset()
    home = next((home for home in known.own_homes if shown(str(home.old)) == place), None)
    states = list(known.ledger.states_at((place, shown(str(home.place))) if home is not None else (place,)))
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
        places |= {shown(str(home.place)) for home in known.homes if shown(str(home.old)) in places}
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


class _Past(msgspec.Struct, frozen=True):
    """What was found of a chest, and archived to it, the last of each first."""

    checks: tuple[PastCheck, ...]
    drills: tuple[PastDrill, ...]
    archives: tuple[PastArchive, ...]
    put_back: tuple[PutBack, ...]
    doubts: tuple[int, ...]

    def proven(self, item: Holding) -> tuple[int, float]:
        """Return when every byte of a bag was last found right: the turn, and the moment (seconds since 1970).

        A later edition proves what it wrote, and nothing of what lay there before. Of a bag that came by other means, as a copy
        that was made by hand or an older image of its drive, nothing is proven until it is checked: then the moment is 0.
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
        chest.label, chest.id, item.bag, state, item.edition, item.archived, checked or None, last, chest.place, item.drive,
        item.carried, item.disk, item.weak, proof=since,
        tried=failed.turn if bad and failed is not None and failed.how == "mend" else 0,
        examined=bad and failed is not None and failed.turn > since and not failed.quick,
    )  # fmt: skip
