"""Decide which editions of a library are dropped: by a rule, never the current one."""

from __future__ import annotations

import datetime
from collections.abc import Iterable, Mapping

from dunechest import clock
from dunechest.chest import editions
from dunechest.chest.bag_records import BagRecords
from dunechest.chest.chest import Chest
from dunechest.chest.layout import EARLIER, EDITIONS
from dunechest.chest.tag_lists import Tag
from dunechest.errors import UsageError
from dunechest.jobs.editions.listing import protected_editions
from dunechest.jobs.editions.needed import archives_of, needed_digests
from dunechest.jobs.known.named import get_chest, own_bag, refuse_if_damaged
from dunechest.model.editions import DropPlan
from dunechest.model.retention_rule import kept_by, parse_rule
from dunechest.names import AnyPath, shown


def plan_drop(
    chest: Chest | AnyPath,
    library: str,
    rule: str,
    *,
    protected: Iterable[int] = (),
    now: datetime.datetime | None = None,
) -> DropPlan:
    """Plan which editions of a library to drop. Changes nothing.

    Parameters
    ----------
    chest : Chest
        Where it is.
    library : str
        Its name in the chest.
    rule : str
        In plain words; see `dunechest.model.retention_rule`.
    protected : iterable of int
        Numbers of protected editions that the rule holds for, too: others of these are kept whatever it says.
    now : datetime, optional
        The present moment, for what the rule calls the last month.

    Raises
    ------
    UsageError
        If there is no such library, the rule is not understood, or an edition named in `protected` is not protected.
    DuneChestError
        If the records of an edition are damaged.
    """
    clauses = parse_rule(rule)
    chest = get_chest(chest)
    entry, current = own_bag(chest, library)
    own = entry.records
    refuse_if_damaged(entry)
    numbers = own.numbers(current.edition)
    made = {number: editions.known_record(own, current, number) for number in numbers}
    moments = [(number, datetime.datetime.fromisoformat(record.archived)) for number, record in made.items()]
    wanted = kept_by(clauses, moments, now or datetime.datetime.fromtimestamp(clock.now(), datetime.UTC)) | {
        current.edition
    }
    shielded = protected_editions(made)
    named = frozenset(protected)
    for number in sorted(named - shielded):
        which = f"Protected are: {', '.join(map(str, sorted(shielded)))}." if shielded else "None is."
        raise UsageError(f"Edition {number} of {shown(entry.name)} is not protected. {which} Nothing was changed.")
    exempt = tuple(number for number in numbers if number in shielded - named and number not in wanted)
    dropped = tuple(number for number in numbers if number not in wanted and number not in exempt)
    kept = tuple(number for number in numbers if number not in dropped)
    # An edition of an earlier version is only known to be protected by the one after it: now its own record says so.
    marked = tuple(number for number in kept if number in shielded - named and not made[number].protected)
    tags = editions.current_tags(own)
    files = _files_of(own, current.edition, dropped, kept, tags)
    size = sum(tags[path].size for path in files if path in tags)
    return DropPlan(chest, entry.name, rule, current, kept, dropped, exempt, files, size, marked)


def _files_of(
    own: BagRecords, current: int, dropped: tuple[int, ...], kept: tuple[int, ...], tags: Mapping[str, Tag]
) -> tuple[str, ...]:
    """Return the files of a bag that go with editions: their records, and content that no other one needs."""
    if not dropped:
        return ()
    files = [f"{EDITIONS}/{number:04d}/{name}" for number in dropped for name in ("library.json", "changes.jsonl")]
    needed = needed_digests(own, current, kept)
    archives = archives_of(own, needed)
    files += [item.path for item in archives.dropped.values()]
    in_archives, digests = archives.paths, needed | archives.bases
    earlier = [path for path in tags if path.startswith(EARLIER + "/") and path not in in_archives]
    return (*files, *(path for path in earlier if tags[path].blake3 not in digests))
