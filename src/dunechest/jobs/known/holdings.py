"""What chests hold, written down whenever it is seen, so that it is known when no drive is connected."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from pathlib import Path
from typing import Any

from dunechest.chest.bag_entry import BagEntry
from dunechest.chest.chest import Chest
from dunechest.chest.file_table import FileTable
from dunechest.chest.records import LibraryRecord, when
from dunechest.errors import DuneChestError
from dunechest.jobs.known.catalogue import note_files
from dunechest.jobs.known.logs import keep_in_step
from dunechest.ledger import events
from dunechest.ledger.folder import state_folder
from dunechest.ledger.memory import libraries_of
from dunechest.machine.drives import ENDLESS, drive_identity, filesystem
from dunechest.machine.identity import this_machine
from dunechest.machine.physical import Physical, physical
from dunechest.machine.volumes import identity
from dunechest.names import from_wire, shown
from dunechest.progress import Progress, silent


def note_holdings(
    chest: Chest,
    entries: Iterable[BagEntry],
    missing: Iterable[str] = (),
    *,
    files: Mapping[str, FileTable] | None = None,
    before: Mapping[str, str] | None = None,
    carried: Mapping[str, int] | None = None,
    at: Path | None = None,
    progress: Progress = silent,
) -> None:
    """Note which libraries a chest holds, and which it no longer does.

    Parameters
    ----------
    chest : Chest
        The chest.
    entries : iterable of BagEntry
        What was seen in it. What has no intact record says nothing of itself; if this computer knows it from before, it is
        noted that it is damaged.
    missing : iterable of str
        Bags that were there and are not any more.
    files : mapping, optional
        What bags hold that were just written, by name: their lists need not be read again for this computer's memory.
    before : mapping, optional
        By what those were known before, from `top_of`.
    carried : mapping, optional
        By name, how many files could not be seen just now; what the record of the latest edition says by default.
    at : Path, optional
        The folder on this computer that was just archived, or found to be just as archived: it has that state.
    progress : Progress
        Told how far it is.
    """
    entries, missing = list(entries), list(missing)
    note_files(chest, entries, missing, files=files, before=before, progress=progress)
    where = identity(chest.folder)
    unseen = carried or {}
    lies = _physical(chest.folder)
    items = [("hold", _facts(chest, e, where, unseen.get(e.name), lies)) for e in entries if e.library is not None]
    if at is not None:
        items += [state_note(at, e.library) for e in entries if e.library is not None and e.library.state]
    items += [("hold", {"chest": chest.id, "bag": name, "gone": True}) for name in missing]
    items += _damaged(chest, entries, where)
    items += _room(chest)
    if items:
        events.try_append(*items)  # what was seen is shown; without this only the memory of it is missing


def _damaged(chest: Chest, entries: Iterable[BagEntry], where: str) -> list[tuple[str, dict[str, Any]]]:
    bad = [entry.name for entry in entries if entry.state in ("damaged", "unusable") and not entry.closed]
    known = libraries_of(chest.id, where) if bad else {}
    facts = {"chest": chest.id, "quick": True, "intact": False, "files": 0, "wrong": 1, "where": where}
    return [("check", facts | {"bag": name}) for name in bad if name in known]


def _room(chest: Chest) -> list[tuple[str, dict[str, Any]]]:
    try:
        drive = filesystem(chest.folder)
    except OSError:
        return []
    if drive.total >= ENDLESS:
        return []  # a server that does not say
    return [("room", {"chest": chest.id, "free": drive.free, "total": drive.total})]


def note_damage(chest: Chest, bag: str, wrong: int, *, always: bool = False) -> None:
    """Note that a job met damage in a bag that this computer knows, though it was no check of everything.

    Parameters
    ----------
    chest : Chest
        The chest.
    bag : str
        The library's name in it.
    wrong : int
        How many files were damaged or missing; with 0 nothing is noted.
    always : bool
        Note it of a bag that this computer never archived to or checked, too.
    """
    where = identity(chest.folder)
    if wrong and (always or bag in libraries_of(chest.id, where)):
        facts = {
            "chest": chest.id,
            "bag": bag,
            "quick": True,
            "intact": False,
            "files": 0,
            "wrong": wrong,
            "where": where,
        }
        events.try_append(("check", facts))
        keep_in_step(chest, write=False)


def is_known_damaged(chest: Chest, bag: str) -> bool:
    """Whether this computer met damage in a bag, and has not found every byte intact since; what came last, no clock tells."""
    from dunechest.ledger.ledger import open_ledger

    where = identity(chest.folder)
    with open_ledger() as ledger:
        if any(begun.bag == bag and begun.wrong for begun in ledger.rounds(chest.id)):
            return True
        made = max((a.turn for a in ledger.archives(chest.id) if a.bag == bag and a.edition == 1), default=0)
        for check in ledger.checks(chest.id):
            if check.bag != bag:
                continue
            if not check.intact:
                return check.turn > made
            if not check.quick and not (check.where and where and check.where != where):
                return False
    return False


def note_refused(chest: Chest, bag: str) -> None:
    """Note the damage for which a job was refused: what is wrong is looked at again, records alone."""
    try:
        entry = chest.bag(bag)
        wrong = len(entry.records.faults()) if entry.is_ours else 0
    except (DuneChestError, OSError):
        return
    note_damage(chest, bag, wrong or int(entry.state in ("damaged", "unusable")))


def state_note(place: Path, record: LibraryRecord) -> tuple[str, dict[str, Any]]:
    """Return the event that a library has, in its place on this computer, the state that an edition holds."""
    facts = {"place": shown(str(place)), "state": record.state, "follows": " ".join(record.follows[:MOST_STATES])}
    return "state", facts | {"gone": False}


def state_undone(place: Path, state: str) -> tuple[str, dict[str, Any]]:
    """Return the event that a library in a place does not have a state any more that it had only been given."""
    return "state", {"place": shown(str(place)), "state": state, "follows": "", "gone": True}


def carried_count(record: LibraryRecord) -> int:
    """Return how many files of an edition were not seen when it was made."""
    return sum(len(item.paths) + len(item.outside) for item in record.carried)


#: So many of the states that one follows are noted.
MOST_STATES = 40


def _physical(folder: Path) -> Physical:
    try:
        return physical(folder)
    except OSError:
        return Physical(frozenset(), frozenset(), "")


def _weakness(record: LibraryRecord, lies: Physical) -> str:
    """Say why a copy protects against nothing: because of what it lies on, or because the library lies on the same disk."""
    origin = from_wire(record.origin.path)
    if lies.weakness or not lies.names or record.origin.machine_id != this_machine(state_folder()).id:
        return lies.weakness
    return "library-disk" if lies.names & _physical(Path(origin)).names else ""


def _facts(
    chest: Chest, entry: BagEntry, where: str, carried: int | None = None, lies: Physical | None = None
) -> dict[str, Any]:
    record = entry.library
    assert record is not None
    lies = lies or _physical(chest.folder)
    return {
        "chest": chest.id,
        "bag": entry.name,
        "name": record.name,
        "kind": record.kind_title,
        "machine": record.origin.machine_id,
        "computer": record.origin.machine,
        "origin": shown(from_wire(record.origin.path)),
        "edition": record.edition,
        "archived": when(record.archived),
        "files": record.totals.files_stored,
        "bytes": record.totals.bytes_stored,
        "fingerprint": record.fingerprint,
        "partial": bool(record.partial),
        "incomplete": record.incomplete,
        "where": where,
        "drive": drive_identity(chest.folder),
        "gone": False,
        "state": record.state,
        "follows": " ".join(record.follows[:MOST_STATES]),
        "carried": carried_count(record) if carried is None else carried,
        "disk": " ".join(sorted(lies.disks)),
        "weak": _weakness(record, lies),
    }
