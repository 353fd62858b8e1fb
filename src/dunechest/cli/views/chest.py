"""How chests are shown."""

from __future__ import annotations

from typing import TYPE_CHECKING

from rich.text import Text

from dunechest import clock
from dunechest.chest.bag_entry import BagEntry
from dunechest.chest.chest import Chest
from dunechest.chest.records import when
from dunechest.cli.layout import BAD, DIM, GOOD, INFO, WARN, listing, say
from dunechest.cli.output import Out
from dunechest.cli.views.drives import drive_words
from dunechest.machine.drives import ENDLESS, holds_modes
from dunechest.model.chests import ChestContents, ChestList, ChestStatus
from dunechest.names import from_wire, quoted, shown
from dunechest.words import ago, local, number, size

if TYPE_CHECKING:
    from dunechest.ledger.ledger import PastCheck, PastDrill


def show_new(out: Out, chest: Chest) -> None:
    """Show that a chest was made."""
    say(out.console, f"Made the chest {shown(chest.label)!r}.", GOOD)
    out.console.print(out.place(chest.place), soft_wrap=True)
    if not chest.is_on_server and holds_modes(chest.folder) and not chest.record.readable:
        say(
            out.console,
            "Private files stay private on this drive: on another computer the administrator may have to restore them. "
            "If whoever has the drive may read them, make the chest with --readable instead.",
            indent=2,
        )
    elif chest.record.readable:
        say(out.console, "Whoever has the drive can read everything on it, private files included.", WARN, indent=2)
    say(out.console, f"Next: dunechest find, then dunechest archive NAME --to {quoted(chest.label)}")


def show_list(out: Out, result: ChestList) -> None:
    """Show the known chests, those that are connected first."""
    console = out.console
    if not result.chests:
        say(console, "No chest is known yet. To make one: dunechest chest new FOLDER --label NAME")
        return
    rows: list[tuple[str, ...]] = []
    below: list[list[Text | str]] = []
    ids = [chest.id for chest in result.chests if chest.connected]
    hidden = [
        chest for chest in result.chests if chest.retired_at is not None and not chest.connected and not out.verbose
    ]
    for chest in result.chests:
        if chest in hidden:
            continue
        free = f"{size(chest.free_bytes)} free" if chest.free_bytes is not None else ""
        state = drive_words(chest)
        rows.append((shown(chest.label), f"retired, {state}" if chest.retired_at is not None else state, free))
        seen = f"last seen {ago(chest.last_seen_at)}" if chest.last_seen_at else "not seen before"
        kept = f"kept at: {shown(chest.kept_at_place)}" if chest.kept_at_place else ""
        notes: list[Text | str] = [out.place(chest.folder), f"{seen}, id {chest.id[:8]}", kept]
        if chest.connected and ids.count(chest.id) > 1:
            notes.append("Another connected chest has the same id: one of them was copied by hand.")
            notes.append(f"-> To make this one a chest of its own: dunechest chest new-id {quoted(str(chest.path))}")
        below.append(notes)
    if rows:
        listing(console, ("label", "drive", "free"), rows, below)
    if hidden:
        say(console, f"{number(len(hidden), 'retired chest')} not shown (--verbose shows all)")


def show_renamed(out: Out, chest: Chest, before: str) -> None:
    """Show that a chest has another label."""
    say(out.console, f"The chest {shown(before)!r} is called {shown(chest.label)!r} now.", GOOD)
    say(out.console, "If the label is written on the drive, change it there too.")


def show_new_id(out: Out, chest: Chest) -> None:
    """Show that a chest has an id of its own."""
    say(out.console, f"The chest {shown(chest.label)!r} has an id of its own now: {chest.id[:8]}.", GOOD)
    out.console.print(out.place(chest.folder), soft_wrap=True)
    say(out.console, f"Next: dunechest chest rename {quoted(str(chest.folder))} NEW-LABEL")


def show_retired(out: Out, chest: ChestStatus, *, undo: bool) -> None:
    """Show that a chest is no longer expected, or is again."""
    label = shown(chest.label)
    if undo:
        say(out.console, f"The chest {label!r} is expected again.", GOOD)
        return
    say(out.console, f"The chest {label!r} is retired: nothing on it counts any more.", GOOD)
    say(out.console, f"Its drive was not changed. To undo: dunechest chest retire {chest.id[:8]} --undo")


def show_place(out: Out, chest: ChestStatus) -> None:
    """Show where the drive of a chest is kept."""
    words = f"is kept at: {shown(chest.kept_at_place)}" if chest.kept_at_place else "is kept nowhere in particular"
    say(out.console, f"The drive of the chest {shown(chest.label)!r} {words}", GOOD)


def problems(result: ChestContents) -> list[str]:
    """Return a line for each thing that is wrong with a chest, as far as its records tell."""
    found = [f"{fault.path}: {fault.why}" for fault in result.chest.faults]
    found += [f"{name}: a change could not be finished: {why}" for name, why in result.unfinished_changes]
    found += [f"{bag.name}: {bag.why}" for bag in result.bags if bag.state in ("damaged", "unusable")]
    return found + [f"{name}: it is missing" for name in result.missing_libraries]


#: Days after which a check of every byte should be made again.
_AGED = 90


def _aged(bag: BagEntry, check: PastCheck | None, chest: Chest) -> str:
    """Suggest a check where the last one of every byte, or the archive itself, is long ago."""
    if bag.library is None:
        return ""
    moments = [when(bag.library.archived)]
    if check is not None and not check.quick:
        moments.append(check.when)
    days = int((clock.now() - max(moments)) // 86_400)
    if days <= _AGED:
        return ""
    return f"-> not fully checked for {days} days: dunechest verify {quoted(chest.label)} {quoted(bag.name)}"


def _checked(check: PastCheck | None) -> str:
    if check is None:
        return "not yet verified on this computer"
    how = ", names and sizes only" if check.quick else ""
    if check.intact:
        return f"last verified {ago(check.when)}{how}: intact"
    return f"last verified {ago(check.when)}{how}: problems found, {number(check.wrong, 'fault')}"


def _row(bag: BagEntry) -> tuple[str, str, str, str, str]:
    """Return a bag's columns: name, kind, size, files, time of archiving."""
    record = bag.library
    if record is None:
        words = {
            "unfinished": "interrupted",
            "foreign": "another program's bag",
            "unusable": "not usable",
            "damaged": "DAMAGED",
        }
        return shown(bag.name), words.get(bag.state, bag.state), "", "", ""
    totals = record.totals
    return (
        shown(bag.name),
        shown(record.kind_title),
        size(totals.bytes_stored),
        f"{totals.files_copied:,}",
        local(record.archived),
    )


def _drilled(bag: BagEntry, past: PastDrill | None, proven: bool) -> Text | str:
    """Say whether the copy passed a drill."""
    if bag.library is None or past is None:
        return ""
    if proven:
        return f"proven: passed a drill {ago(past.when)}"
    if not past.passed:
        return Text(f"    did NOT pass its drill {ago(past.when)}: problems found", style=BAD)
    return f"passed a drill {ago(past.when)}; it has changed since: drill it again"


def _below(out: Out, result: ChestContents, bag: BagEntry) -> list[Text | str]:
    """Return what stands below a bag: where it came from and its last check, or what is wrong."""
    record, check = bag.library, result.checks.get(bag.name)
    if bag.state == "unfinished":
        return ["an archive was interrupted here; archive the library again to finish it"]
    if record is None:
        return [shown(bag.why) or _checked(check)]
    checked: Text | str = _checked(check)
    if check is not None and not check.intact:
        checked = Text(f"    {checked}", style=BAD)
    return [
        out.place(from_wire(record.origin.path), before=f"from {shown(record.origin.machine)}, "),
        checked,
        _aged(bag, check, result.chest),
        _drilled(bag, result.drills.get(bag.name), bag.name in result.proven),
    ]


def show_contents(out: Out, result: ChestContents) -> None:
    """Show `chest show`: the chest, what is wrong with it, and what it holds."""
    chest, console = result.chest, out.console
    head = Text(shown(chest.label), style="bold")
    count = number(len(result.bags), "library", "libraries") if result.bags else "no library in it"
    room = f", {size(result.free_bytes)} of {size(result.total_bytes)} free" if result.total_bytes < ENDLESS else ""
    head.append(f": {count}{room}", style="not bold")
    say(console, head)
    console.print(out.place(chest.place), style=DIM, soft_wrap=True)
    say(console, f"{result.filesystem}, made {local(chest.record.made)}, id {chest.id[:8]}", DIM, indent=4)
    _show_faults(out, result)
    if not result.known_before:
        say(console, "This computer sees this chest for the first time, and will remember it.", INFO)
    if not result.bags and not result.missing_libraries:
        say(console, f"To archive: dunechest archive NAME --to {quoted(chest.label)}")
    if not result.bags:
        return
    console.print()
    listing(
        console,
        ("library", "kind", "size", "files", "archived"),
        [_row(bag) for bag in result.bags],
        [_below(out, result, bag) for bag in result.bags],
        right=(2, 3),
    )


def _show_faults(out: Out, result: ChestContents) -> None:
    chest, console = result.chest, out.console
    for fault in chest.faults:
        say(console, f"The chest's own record {fault.path} is damaged: {shown(fault.why)}", BAD)
        say(console, f"-> dunechest chest rebuild {quoted(str(chest.folder))}", indent=2)
    for name in result.missing_libraries:
        say(console, f"MISSING: {shown(name)}; this computer saw it here, and its folder is gone or renamed.", BAD)
        words = f"-> If you removed it yourself: dunechest chest forget {quoted(chest.label)} {quoted(name)}"
        say(console, words, indent=2, hang=3)
    for name, why in result.unfinished_changes:
        say(console, f"A change of {shown(name)} could not be finished: {shown(why)}", WARN)
    for name in chest.recovered:
        say(console, f"An interrupted change of {shown(name)} was finished.", WARN)
