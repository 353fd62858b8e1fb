"""Thin out the editions of a library: by a rule, never the current one, and nothing that another edition needs."""

from __future__ import annotations

import datetime
import os
from collections.abc import Iterator, Mapping
from dataclasses import dataclass

from dunechest.chest import editions, journal, pieces, records
from dunechest.chest.bag_records import BagRecords
from dunechest.chest.chest import Chest
from dunechest.chest.commit import commit, finish_decided, tag_steps
from dunechest.chest.journal import Rename
from dunechest.chest.layout import DUNE, EARLIER, EDITIONS, FOR, GONE, INFO, PENDING, PENDING_TAGS, TAGS
from dunechest.chest.pieces import Kept
from dunechest.chest.records import FileRecord, LibraryRecord
from dunechest.chest.write_tags import bag_info, flushed_tag, write_lists
from dunechest.errors import CutOff, Refused
from dunechest.jobs.here import machine_name
from dunechest.jobs.named import own_bag, refuse_if_damaged
from dunechest.jobs.thinning_rule import kept_by, parse_rule
from dunechest.ledger import events
from dunechest.machine.volumes import identity
from dunechest.names import shown
from dunechest.transfer import disk
from dunechest.transfer.below import folders_in


@dataclass(frozen=True, slots=True)
class ThinPlan:
    """What thinning means.

    Parameters
    ----------
    chest, bag
        Where.
    rule : str
        The rule, as it was given.
    record : LibraryRecord
        The current edition.
    kept, dropped : tuple of int
        Editions that stay and that go.
    exempt : tuple of int
        Of those that stay, the ones that the rule would drop: they come before a mass change.
    files : tuple of str
        Paths in the bag that go.
    bytes : int
        What becomes free by that.
    """

    chest: Chest
    bag: str
    rule: str
    record: LibraryRecord
    kept: tuple[int, ...]
    dropped: tuple[int, ...]
    exempt: tuple[int, ...]
    files: tuple[str, ...]
    bytes: int


def plan_thinning(chest: Chest, library: str, rule: str, *, now: datetime.datetime | None = None) -> ThinPlan:
    """Plan to thin out the editions of a library. Changes nothing.

    Parameters
    ----------
    chest : Chest
        Where it is.
    library : str
        Its name in the chest.
    rule : str
        In plain words; see `dunechest.jobs.thinning_rule`.
    now : datetime, optional
        The present moment, for what the rule calls the last month.

    Raises
    ------
    WordsOff
        If there is no such library, or the rule is not understood.
    DuneChestError
        If the records of an edition are damaged.
    """
    clauses = parse_rule(rule)
    entry, current = own_bag(chest, library)
    own = entry.records
    refuse_if_damaged(entry)
    numbers = own.numbers(current.edition)
    made = {number: editions.record_of(own, current, number) for number in numbers}
    moments = [(number, datetime.datetime.fromisoformat(record.archived)) for number, record in made.items()]
    wanted = kept_by(clauses, moments, now or datetime.datetime.now(datetime.UTC)) | {current.edition}
    before = max((number for number, record in made.items() if record.mass_change), default=0)
    exempt = tuple(number for number in numbers if number < before and number not in wanted)
    dropped = tuple(number for number in numbers if number not in wanted and number >= before)
    kept = tuple(number for number in numbers if number not in dropped)
    files = [f"{EDITIONS}/{number:04d}/{name}" for number in dropped for name in ("library.json", "changes.jsonl")]
    tags = editions.current_tags(own)
    if dropped:
        needed = _needed(own, current.edition, kept)
        archives = _archives(own, needed)
        files += [one.path for one in archives.dropped.values()]
        in_archives, digests = archives.paths, needed | archives.bases
        earlier = [path for path in tags if path.startswith(EARLIER + "/") and path not in in_archives]
        files += [path for path in earlier if tags[path].blake3 not in digests]
    size = sum(tags[path].size for path in files if path in tags)
    return ThinPlan(chest, entry.name, rule, current, kept, dropped, exempt, tuple(files), size)


@dataclass(frozen=True, slots=True)
class _Archives:
    """Archives of pieces: those that stay and that go, by digest of the whole, and the files that are their bases."""

    kept: dict[str, Kept]
    dropped: dict[str, Kept]
    bases: frozenset[str]

    @property
    def paths(self) -> set[str]:
        """Paths of all of them."""
        return {one.path for one in (*self.kept.values(), *self.dropped.values())}


def _archives(own: BagRecords, needed: set[str]) -> _Archives:
    every = editions.places_of_bytes(own, []).pieces
    kept = {digest: one for digest, one in every.items() if digest in needed}
    dropped = {digest: one for digest, one in every.items() if digest not in needed}
    bases = frozenset(pieces.base_of(one, every) for one in kept.values())
    return _Archives(kept, dropped, bases)


def _rewrite(own: BagRecords, plan: ThinPlan) -> list[str]:
    """Have the archives that stay hold what they need of those that go; return the paths of those written anew."""
    bag = own.bag
    archives = _archives(own, _needed(own, plan.record.edition, plan.kept))
    where = {digest: one for one in archives.dropped.values() for digest in one.pieces}
    there = {digest for one in archives.kept.values() for digest in one.pieces}
    written = []
    for one in archives.kept.values():
        more = {d: where[d] for d in pieces.list_of(own.at, one) if d in where and d not in there}
        there |= more.keys()
        base = pieces.base_of(one, archives.dropped)
        if more or base != one.about.base:
            target = bag / PENDING_TAGS / one.path
            disk.make_folder(target.parent)
            disk.remove(target, missing_ok=True)
            pieces.rewrite(own.at, one, base, more, target)
            written.append(one.path)
    return written


def _needed(own: BagRecords, current: int, kept: tuple[int, ...]) -> set[str]:
    """Return the digests of all files of the editions that stay."""
    files = {path: proven.record for path, proven in editions.current_files(own).items()}
    needed = {file.blake3 for file in files.values()}
    for number in reversed(own.numbers(current)[:-1]):
        editions.step_back(files, editions.changes_of(own, number))
        if number in kept:
            needed.update(file.blake3 for file in files.values())
    return needed


def carry_out(plan: ThinPlan) -> ThinPlan:
    """Thin out as planned: the new records are proven first, then decided, then the files go.

    Raises
    ------
    Refused
        If the library got another edition since the plan was made.
    CutOff
        If the drive is full, gone or failing; nothing is lost, and the next command finishes a decided change.
    """
    if not plan.dropped:
        return plan
    bag = plan.chest.bag_folder(plan.bag)
    with plan.chest.changing(machine_name()):
        finish_decided(bag)
        own = BagRecords(bag)
        now = own.library()
        if (now.edition, now.archived) != (plan.record.edition, plan.record.archived) or (
            own.numbers(now.edition) != tuple(sorted((*plan.kept, *plan.dropped)))
        ):
            raise Refused(f"{shown(plan.bag)} changed since. Nothing was changed now; run the command again.")
        if (bag / FOR).exists():
            raise Refused(
                f"An archive of {shown(plan.bag)} was cut off. Archive it again first, so that it is finished. "
                "Nothing was changed."
            )
        try:
            journal.clear(bag)  # what another thinning that was cut off has left
            top = _write(own, plan)
        except OSError as error:
            raise CutOff(f"Thinning {shown(plan.bag)} was cut off: {error.strerror}. Nothing is lost.") from error
    # Without this only this machine's memory of having made the bag is missing.
    events.try_append(
        (
            "archive",
            {
                "chest": plan.chest.id,
                "bag": plan.bag,
                "origin": shown(str(plan.record.origin.path)),
                "edition": now.edition,
                "files": now.totals.files_copied,
                "bytes": now.totals.bytes_stored,
                "top": top,
                "where": identity(plan.chest.folder),
            },
        )
    )
    return plan


def _write(own: BagRecords, plan: ThinPlan) -> str:
    """Write what the editions that stay need, and let go of the rest."""
    bag = own.bag
    gone = set(plan.files)
    tags = editions.current_tags(own)
    changed: dict[str, list[bytes]] = {}
    for number, lines in _new_changes(own, plan).items():
        changed[f"{EDITIONS}/{number:04d}/changes.jsonl"] = lines
    totals = {number: one for number, one in own.told().items() if number not in plan.dropped}
    changed[INFO] = [bag_info(plan.record, plan.bag, plan.record.totals.files_stored, totals)]
    rewritten = _rewrite(own, plan)
    fresh = {*changed, *rewritten, TAGS}
    carried = [tag for path, tag in tags.items() if path not in gone and path not in fresh]
    top = write_lists(bag, changed, carried, [flushed_tag(bag, path) for path in rewritten])
    out = tuple(Rename(path, f"{GONE}/{n}") for n, path in enumerate(plan.files))
    folders = {os.path.dirname(path) for path in plan.files}
    above = {folder.rpartition("/")[0] for folder in folders}
    while above - folders:
        folders |= above
        above = {folder.rpartition("/")[0] for folder in folders}
    inner = [f for f in folders if f.startswith((EDITIONS + "/", EARLIER + "/"))]
    tidy = tuple(Rename(folder, "") for folder in sorted(inner, key=lambda f: -f.count("/")))
    for folder in folders_in(bag / PENDING):
        disk.flush_folder(folder)
    disk.flush_folder(bag / DUNE)
    commit(bag, (tag_steps(bag), out, tidy))
    return top


def _new_changes(own: BagRecords, plan: ThinPlan) -> dict[int, list[bytes]]:
    """Say of each edition whose next one goes in what it differs from the next that stays."""
    numbers = own.numbers(plan.record.edition)
    found: dict[int, list[bytes]] = {}
    files = {path: proven.record for path, proven in editions.current_files(own).items()}
    later = dict(files)  # of the edition last met that stays
    next_gone = False
    for number in reversed(numbers[:-1]):
        editions.step_back(files, editions.changes_of(own, number))
        if number in plan.dropped:
            next_gone = True
            continue
        if next_gone:
            lines = editions.differences(_sorted(files), _sorted(later))
            found[number] = [records.encode_line(line) for line in lines]
        later, next_gone = dict(files), False
    return found


def _sorted(files: Mapping[str, FileRecord]) -> Iterator[FileRecord]:
    return (files[path] for path in sorted(files))
