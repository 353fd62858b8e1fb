"""Where a file is: in which library and edition, on which drive, and how it comes back. No drive need be connected.

The answer comes from this computer's catalogue (`dunechest.ledger.catalogue`), which is a memory: it says where to
look, and a restore looks there.
"""

from __future__ import annotations

import os
import re
from collections.abc import Iterable, Iterator
from typing import TYPE_CHECKING

from dunechest.errors import CutOffError, UsageError
from dunechest.jobs.known.chests import list_chests
from dunechest.jobs.study.path_patterns import expression, is_pattern
from dunechest.ledger.catalogue import folded, open_catalogue, short_digest
from dunechest.ledger.catalogue_rows import CURRENT, Held, Match, Query
from dunechest.model.chests import ChestStatus
from dunechest.model.overview import FoundCopy, FoundFile, SearchOptions, SearchResult
from dunechest.names import AnyPath, quoted, shown
from dunechest.remote.address import address_of

if TYPE_CHECKING:
    pass

#: So many files are returned if no other number is asked for.
MOST = 200


_ANYTHING = SearchOptions()


def search(
    patterns: str | Iterable[str] = (),
    options: SearchOptions = _ANYTHING,
    *,
    most: int = MOST,
    office: bool = False,
    computer: str | None = None,
) -> SearchResult:
    """Search all chests that this computer has met, whether their drives are connected or not.

    Parameters
    ----------
    patterns : str or iterable of str
        All must fit. One with ``*``, ``?`` or ``[...]`` is a pattern for the whole name, or for the whole path if it has a
        ``/``; any other is a word that the path has in it. Capitals do not count.
    options : SearchOptions
        What else the file must be.
    most : int
        Number of files to return.
    office : bool
        Search all chests that any computer of the office has met.
    computer : str, optional
        Of those, only the libraries of this computer.

    Returns
    -------
    SearchResult

    Raises
    ------
    UsageError
        If nothing to search for is given, or there is no such chest.
    CutOffError
        If the file in hand cannot be read.
    OfficeUnreachableError
        If the office's server cannot be reached.
    DuneChestError
        If the catalogue cannot be used.
    """
    wanted = (patterns,) if isinstance(patterns, str) else tuple(patterns)
    if not any(wanted) and options == _ANYTHING:
        raise UsageError("Say what to search for: a name such as *.xmp, words, or a size, date or file.")
    if office or computer is not None:
        return _in_office(wanted, options, most, computer)
    chests = {chest.id: chest for chest in list_chests().chests}
    query = _query(wanted, options, chests)
    with open_catalogue() as catalogue:
        found = catalogue.find(query, most + 1)
        files, known = catalogue.counts(query.chests)
    told = (_file(match, chests) for match in found[:most])
    return SearchResult(tuple(told), len(found) > most, files, known)


def _in_office(wanted: Iterable[str], options: SearchOptions, most: int, computer: str | None) -> SearchResult:
    """Search what all computers of the office know."""
    from dunechest.jobs.office.known import office_chests
    from dunechest.jobs.office.view import computer_named, searching
    from dunechest.ledger.ledger import Ledger
    from dunechest.ledger.office.files import find_files, listings_of

    with searching() as (connection, now):
        only = computer_named(now, computer).machine if computer is not None else ""
        rows, seen_by = now.known()
        ledger = Ledger(rows)
        chests = {chest.id: chest for chest in office_chests(ledger, seen_by, retired=True)}
        gone = {(item.chest, item.bag) for item in ledger.holdings() if item.gone}
        query = _query(wanted, options, chests)
        listings = [
            item
            for item in listings_of(connection, {known.number: known.machine for known in now.computers})
            if (item.bag.chest, item.bag.bag) not in gone
            and query.chests(item.bag.chest)
            and (computer is None or (only and item.bag.key.startswith(f"{only}\n")))
        ]
        found = find_files(connection, query, most + 1, listings)
    told = tuple(_file(match, chests) for match in found[:most])
    known_chests = len({item.bag.chest for item in listings})
    return SearchResult(told, len(found) > most, sum(item.files for item in listings), known_chests)


def _query(patterns: Iterable[str], options: SearchOptions, chests: dict[str, ChestStatus]) -> Query:
    """Say in the catalogue's terms what is looked for."""
    size = digest = None
    if options.same_as is not None:
        size, digest = _in_hand(options.same_as)
    only = _chest(options.chest, chests).id if options.chest is not None else None

    def counts(chest: str) -> bool:
        known = chests.get(chest)
        return known is not None and only in (None, chest) and (known.retired_at is None or known.connected)

    wanted = [folded(pattern.strip("/")) for pattern in patterns if pattern.strip("/")]
    globs = [(expression(p), "/" in p) for p in wanted if is_pattern(p)]
    deep = [p for p in wanted if "/" in p and not is_pattern(p)]

    def fits(path: str) -> bool:
        name = path.rpartition("/")[2]
        return all(p in path for p in deep) and all(each.fullmatch(path if whole else name) for each, whole in globs)

    return Query(
        fragments=tuple(fragment for pattern in wanted for fragment in _fragments(pattern)),
        fits=fits if globs or deep else None,
        library=options.library,
        kind=options.kind,
        chests=counts,
        smallest=options.smallest if size is None else size,
        largest=options.largest if size is None else size,
        since=int(options.since) if options.since is not None else None,
        before=int(options.before) if options.before is not None else None,
        digest=digest,
    )


def _fragments(pattern: str) -> Iterator[str]:
    """Yield what a path has in it for certain if it fits a pattern."""
    if not is_pattern(pattern):
        yield from filter(None, pattern.split("/"))
        return
    for piece in re.split(r"\*+|\?|\[[^\]]+\]|/", pattern):
        if piece and not is_pattern(piece):
            yield piece


def _chest(name: str, chests: dict[str, ChestStatus]) -> ChestStatus:
    for chest in chests.values():
        if name == chest.id or name.casefold() == chest.label.casefold():
            return chest
    known = ", ".join(shown(chest.label) for chest in chests.values()) or "none yet"
    raise UsageError(f"This computer knows no chest {shown(name)!r}. Known chests: {known}.")


def _in_hand(path: AnyPath) -> tuple[int, int]:
    """Return size and digest of a file on this computer."""
    from pathlib import Path

    from dunechest.transfer.digest_files import digest_of

    try:
        return os.stat(path).st_size, short_digest(digest_of(Path(path)))
    except OSError as error:
        raise CutOffError(f"{shown(os.fspath(path))} cannot be read: {error.strerror}.") from error


def _file(match: Match, chests: dict[str, ChestStatus]) -> FoundFile:
    copies = [_copy(match, held, chests[held.chest]) for held in match.held]
    copies.sort(key=lambda copy: (not copy.connected, not copy.current, copy.label.casefold(), -copy.last_edition))
    return FoundFile(match.library, match.kind, match.path, match.size, match.mtime, tuple(copies))


def _copy(match: Match, held: Held, chest: ChestStatus) -> FoundCopy:
    current = held.last == CURRENT
    edition = "" if current else f" --edition {held.last}"
    name = chest.label if chest.label else chest.id
    command = f"dunechest restore {quoted(name)} {quoted(held.bag)} --file {quoted(match.path)}{edition}"
    last = held.edition if current else held.last
    place = chest.kept_at_place or (f"the server {address_of(chest.address).server}" if chest.address else "")
    return FoundCopy(
        chest.label,
        chest.id,
        held.bag,
        held.first,
        last,
        current,
        chest.connected,
        place,
        command,
        chest.last_seen_by,
    )
