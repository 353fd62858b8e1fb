"""What to do so that every library is safe, most urgent first, each with the command that does it."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence

from dunechest.jobs.known_chests import ChestStatus
from dunechest.jobs.safety import Copy, NextStep, ProtectedLibrary, Unprotected
from dunechest.names import quoted, shown
from dunechest.words import number


def next_steps(
    libraries: Sequence[ProtectedLibrary],
    unprotected: Sequence[Unprotected],
    chests: Sequence[ChestStatus],
    called: Mapping[str, str],
) -> Iterable[NextStep]:
    """Yield what to do: damage first, then libraries with too few copies, then what is old."""
    # An office has hundreds of both.
    by_chest: dict[str, list[tuple[ProtectedLibrary, Copy]]] = defaultdict(list)
    for library in libraries:
        for copy in library.copies:
            if copy.state in ("damaged", "missing", "unchecked"):
                by_chest[copy.chest].append((library, copy))
    for chest in chests:
        yield from _to_mend(by_chest[chest.id], chest)
    for library in libraries:
        if library.beside and not library.good:
            drive = shown(library.moved.drive) if library.moved is not None else ""
            message = (
                f"The only copy of {shown(library.name)} is on {drive}, the drive that the library itself is on."
            )
            held = {copy.chest for copy in library.copies}
            other = next((quoted(chest.label) for chest in chests if chest.id not in held), "CHEST")
            yield NextStep(message, f"dunechest archive {quoted(_word(library, called))} --to {other}")
    if not chests and (libraries or unprotected):
        yield NextStep("There is no chest yet.", "dunechest chest new FOLDER --label NAME")
        return
    yield from _to_archive(libraries, unprotected, chests, called)
    if len(chests) < max((library.rule.copies for library in libraries), default=0):
        words = f"Only {number(len(chests), 'drive')} known: one copy is not a backup. Connect another drive."
        yield NextStep(words, "dunechest chest new FOLDER --label NAME")
    for chest in chests:
        old = [library.name for library, copy in by_chest[chest.id] if copy.state == "unchecked" and not library.safe]
        if old:
            message = (
                f"{shown(chest.label)} was not fully checked lately ({number(len(old), 'library', 'libraries')})."
            )
            yield NextStep(message, f"dunechest verify {quoted(chest.label)}")
    for library in libraries:
        good, name = library.good, shown(library.name)
        if library.safe:
            continue
        if len(good) < library.rule.copies:
            alike = [copy for copy in library.copies if copy.state == "safe" and not library.is_beside(copy)]
            if len(alike) >= library.rule.copies and len(library.copies) >= len(chests):
                words = f"All copies of {name} are on one drive, and count as one. Connect another drive."
                yield NextStep(words, "dunechest chest new FOLDER --label NAME")
            continue
        if library.lacks_drives:
            held = {copy.chest for copy in library.copies}
            other = next((quoted(chest.label) for chest in chests if chest.id not in held), "CHEST")
            word = quoted(_word(library, called))
            yield NextStep(f"The copies of {name} are on too few drives.", f"dunechest archive {word} --to {other}")
        if library.lacks_places:
            message = f"The drives with {name} are kept in too few places."
            yield NextStep(message, f"dunechest chest place {quoted(good[-1].label)} PLACE")
        if library.lacks_drill:
            message = f"No copy of {name} passed a drill in the last {number(library.rule.drill_days or 0, 'day')}."
            yield NextStep(message, f"dunechest drill {quoted(good[0].label)} {quoted(good[0].bag)}")


def _was(some: Sequence[str]) -> str:
    return "was" if len(some) == 1 else "were"


def _it(some: Sequence[str]) -> str:
    return "it" if len(some) == 1 else "them"


def _word(library: ProtectedLibrary, called: Mapping[str, str]) -> str:
    """Return what a command can call a library: its name, or the folder where it is now."""
    place = shown(str(library.moved.place)) if library.moved is not None else library.origin
    return called.get(place, place)


def _from_elsewhere(library: ProtectedLibrary, chests: Sequence[ChestStatus]) -> NextStep:
    """Say how a library of another computer gets another copy: from a good one, if there is one."""
    good = library.good
    message = f"{shown(library.name)} has {number(len(good), 'good copy', 'good copies')}"
    if good and chests:
        command = f"dunechest copy {quoted(good[0].label)} {quoted(chests[0].label)} {quoted(good[0].bag)}"
        return NextStep(f"{message}.", command)
    return NextStep(f"{message}; archive it again on {shown(library.computer)}, where it comes from.", "")


def _to_mend(copies: Sequence[tuple[ProtectedLibrary, Copy]], chest: ChestStatus) -> Iterable[NextStep]:
    """Yield what to do about copies in a chest that are damaged or gone: another good copy mends or replaces them."""
    for state, one, several in (("damaged", "is damaged", "are damaged"), ("missing", "is gone", "are gone")):
        bad = [(library, copy) for library, copy in copies if copy.state == state]
        if not bad:
            continue
        names = ", ".join(shown(library.name) for library, _ in bad)
        message = f"{names} on {shown(chest.label)} {one if len(bad) == 1 else several}."
        label, bags = quoted(chest.label), " ".join(quoted(copy.bag) for _, copy in bad)
        helpers = [good.label for library, copy in bad for good in library.good if good.bag == copy.bag]
        if state == "damaged":  # even an outdated copy has most of it
            helpers += [
                old.label for library, _ in bad for old in library.copies if old.state in ("behind", "unchecked")
            ]
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
        if not library.here and aged and not library.good:
            continue  # what there is of it is checked first; then it can be copied
        if not library.here:
            yield _from_elsewhere(library, [chest for chest in order if states.get(chest.id) in (None, "behind")])
            continue
        if library.beside and not library.good:
            continue  # that is told by itself
        for chest in order[:lacking]:
            wanted[chest.label].append(_word(library, called))
            names[chest.label].append(library.name)
    first = min(chests, key=lambda chest: (not chest.present, chest.label.casefold()), default=None)
    elsewhere: dict[str, list[str]] = defaultdict(list)
    for found in unprotected:
        if found.computer:
            elsewhere[found.computer].append(found.name)
    for computer, own in elsewhere.items():
        some = ", ".join(shown(name) for name in own[:4])
        more = f" and {len(own) - 4} more" if len(own) > 4 else ""
        yield NextStep(
            f"On {shown(computer)}, {some}{more} {_was(own)} never archived. Archive {_it(own)} there.", ""
        )
    if first is not None:
        for found in unprotected:
            if found.computer:
                continue
            wanted[first.label].append(found.path)
            names[first.label].append(found.name)
    for label, paths in wanted.items():
        some = ", ".join(shown(name) for name in names[label][:4])
        more = f" and {len(paths) - 4} more" if len(paths) > 4 else ""
        words = [quoted(called.get(shown(path), path)) for path in dict.fromkeys(paths)]
        command = " ".join(["dunechest archive", *words, "--to", quoted(label)])
        yield NextStep(f"Not enough copies of {some}{more}.", command)
