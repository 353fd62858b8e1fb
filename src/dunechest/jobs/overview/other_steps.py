"""What to do beside making copies: routines, the office, the clock, drives and records that are not as they were."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from dunechest import clock
from dunechest.jobs.known.clones import called
from dunechest.jobs.known.everything import Known
from dunechest.ledger.ledger import PastLoose, PastRefusal
from dunechest.ledger.settings import settings_file
from dunechest.model.archive import LASTING_CODES
from dunechest.model.homes import Home
from dunechest.model.overview import NextStep, ProtectedLibrary
from dunechest.names import quoted, shown
from dunechest.words import number

if TYPE_CHECKING:
    from dunechest.jobs.archive.planning.foresight import Foresight
    from dunechest.model.routine import RoutineState

_DAY, _HOUR = 86_400.0, 3600.0


def of_moved(homes: Iterable[Home]) -> Iterable[NextStep]:
    """Yield what to do about moved libraries of which there are two, or that their applications do not find."""
    for home in homes:
        if home.second is not None or home.strayed:
            wait = "" if home.connected else " Connect its drive, and make one library of the two."
            yield NextStep(f"{shown(home.name)}: {home.message}{wait}", home.command)


def of_routines(routines: Iterable[RoutineState]) -> Iterable[NextStep]:
    """Yield what to do about routines that need a person: what was told of them, and what is overdue."""
    for state in routines:
        if state.message:
            command = state.command or f"dunechest routine list {state.name}"
            yield NextStep(f"The routine {shown(state.name)}: {shown(state.message)}", command)
        elif state.overdue_labels:
            labels = ", ".join(map(shown, state.overdue_labels))
            message = (
                f"The routine {shown(state.name)} is overdue: {labels} not connected for longer than it waits for."
            )
            yield NextStep(message, f"dunechest routine list {state.name}")


def of_office() -> Iterable[NextStep]:
    """Yield what to do if the office hears nothing of this computer for long; who has none does not wait for it."""
    if not settings_file().is_file():
        return
    from dunechest.jobs.office.exchange import told_long_ago

    why = told_long_ago()
    if why:
        yield NextStep(
            f"The office has not heard of this computer for more than a week. {why}", "dunechest office send"
        )


def of_clock(known: Known) -> Iterable[NextStep]:
    """Yield that the clock went back, or was ahead before, or is behind that of another computer of this person."""
    if known.office is not None:
        return
    last, now = known.ledger.last_moment, clock.now()
    words = f"The clock of this computer says {_day(now)}, and what"
    rest = "The order of checks and archives does not rest on it."
    if last is not None and last > now + _HOUR:
        yield NextStep(f"{words} it noted last is dated {_day(last)}. Set the clock if it is wrong. {rest}", "")
        return
    from dunechest.ledger.trust import my_computers

    names = {computer.id: computer.name for computer in known.ledger.computers()}
    ahead = [(moment, by) for by, moment in known.ledger.moments().items() if moment > now + _HOUR]
    for moment, by in sorted(ahead, reverse=True):
        if by in names and by in my_computers():
            told = f"{words} {shown(names[by])} noted last on a drive is dated {_day(moment)}."
            yield NextStep(f"{told} Set the clock that is wrong. {rest}", "")
            return


def _day(moment: float) -> str:
    return time.strftime("%Y-%m-%d %H:%M", time.localtime(moment))


def of_put_back(known: Known) -> Iterable[NextStep]:
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
                yield NextStep(words, f"dunechest verify {called(chest, known.chests)}")


def of_harmed(known: Known) -> Iterable[NextStep]:
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


def of_strangers(libraries: Iterable[ProtectedLibrary], known: Known) -> Iterable[NextStep]:
    """Yield whom to ask about: computers that checked what this one did not, if they are this person's."""
    if known.office is not None:
        return
    from dunechest.ledger.trust import other_computers

    vouched, others = known.ledger.vouched(), other_computers()
    waiting = {
        (copy.chest_id, copy.archived_as)
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


def of_loose(loose: Sequence[PastLoose]) -> Iterable[NextStep]:
    """Yield how many files of a person's own are in no library and in no chest, if any are."""
    if loose:
        files = sum(folder.files for folder in loose)
        count, are = number(files, "file"), "is" if files == 1 else "are"
        names = ", ".join(shown(Path(folder.place).name) for folder in loose[:4])
        more = f" and {len(loose) - 4} more" if len(loose) > 4 else ""
        words = f"{count} under your home {are} in no library and in no chest: {names}{more}. Archive a folder by its path"
        yield NextStep(f"{words}, or say that it is not worth it: dunechest find --ignore FOLDER", "")


def refused(known: Known) -> Callable[[ProtectedLibrary | None, str, str], PastRefusal | None]:
    """Return what says of an archive, of a library in a folder to a chest, what it would be refused for, as far as that is known.

    That much of a library went or changed is seen now, whatever was found when it was archived last.
    """
    noted: dict[tuple[str, str], PastRefusal] = {}
    if known.office is None:
        for item in known.ledger.refusals():
            if item.code in LASTING_CODES or clock.now() - item.when < _DAY:
                noted[item.place, item.chest] = item
    connected = {chest.id: chest.path for chest in known.chests if chest.connected and not chest.address}
    labels = {chest.id: chest.label for chest in known.chests}
    seen: dict[str, Foresight | None] = {}

    def told(library: ProtectedLibrary | None, place: str, chest: str) -> PastRefusal | None:
        before = noted.get((place, chest))
        if library is None or known.office is not None:
            return before
        # Loaded where something is to be archived: mostly all is well.
        from dunechest.jobs.archive.planning.foresight import SEEN, foresee

        if before is not None and before.code not in SEEN:
            return before
        if place not in seen:
            seen[place] = foresee(library, place, connected)
        ahead = seen[place]
        if ahead is None:
            return before
        found = ahead.refusal(library, chest, labels.get(chest, ""))
        if found is None:
            return None
        own = "" if found is ahead.surprise else chest
        return PastRefusal(place, own, found.code, found.message, found.action, clock.now())

    return told
