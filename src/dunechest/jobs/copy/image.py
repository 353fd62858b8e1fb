"""What a bag becomes on another drive: every file of it, under the name it has there.

The editions are those of the source and those that only the target still has. What the target has dropped, or
never had before its own current edition, is not brought back.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping

import msgspec

from dunechest.chest import editions, pieces, records
from dunechest.chest.bag_records import BagRecords
from dunechest.chest.edition_totals import EditionTotals
from dunechest.chest.file_table import FileTable, Proven
from dunechest.chest.fitted_names import Fitted, FittedEarlier, fit_edition
from dunechest.chest.layout import (
    DATA,
    EARLIER,
    LIBRARY_FILES,
    LIBRARY_FOLDER,
    TAGS,
    changes_path,
    edition_path,
    kept_path,
)
from dunechest.chest.pieces import Kept
from dunechest.chest.records import FileRecord, LibraryRecord
from dunechest.chest.tag_lists import Tag
from dunechest.machine.drives import Limits
from dunechest.names import from_wire, is_text, parents, why_unsafe

_PREFIX = EARLIER + "/"


class Held(msgspec.Struct, frozen=True):
    """A bag as it is: its records, its current files, and what only earlier editions have, by path in the bag."""

    own: BagRecords
    record: LibraryRecord
    files: FileTable
    tags: Mapping[str, Tag]
    numbers: tuple[int, ...]

    @property
    def earlier(self) -> dict[str, Tag]:
        """The tag files that hold earlier states."""
        return {path: tag for path, tag in self.tags.items() if path.startswith(_PREFIX)}


def held(own: BagRecords) -> Held:
    """Read the records of a bag.

    Raises
    ------
    DuneChestError
        If one that is needed is not proven.
    """
    record = own.library()
    return Held(own, record, editions.current_files(own), editions.current_tags(own), own.numbers(record.edition))


class Joined(msgspec.Struct, frozen=True):
    """An archive of pieces to be written with another base, and with pieces that lie in others: path, and what goes in.

    The digests of `more` say of each piece in which archive it is.
    """

    path: str
    kept: Kept
    base: str
    more: Mapping[str, Kept]


class Image(msgspec.Struct):
    """What a bag becomes.

    Parameters
    ----------
    record : LibraryRecord
        The current edition, with the names of the target's drive.
    files : FileTable
        Its files, by path below ``data/``.
    earlier : dict
        What only earlier editions have: by path in the bag.
    source : dict
        Where in the source's bag a path of this one is found, if not under the same.
    editions : dict
        Records of earlier editions by number.
    lines : dict
        By number, the lines of the list in which an earlier edition differs from the next.
    totals : dict
        What ``bag-info.txt`` says of earlier editions.
    verbatim : bool
        Whether the records are those of the source, byte for byte.
    joined : list of Joined
        Archives of pieces that neither of the two has like this.
    """

    record: LibraryRecord
    files: FileTable
    earlier: dict[str, Tag] = msgspec.field(default_factory=dict)
    source: dict[str, str] = msgspec.field(default_factory=dict)
    editions: dict[int, LibraryRecord] = msgspec.field(default_factory=dict)
    lines: dict[int, list[bytes]] = msgspec.field(default_factory=dict)
    totals: dict[int, EditionTotals] = msgspec.field(default_factory=dict)
    verbatim: bool = True
    joined: list[Joined] = msgspec.field(default_factory=list)

    @property
    def numbers(self) -> tuple[int, ...]:
        """All editions, the current one last."""
        return (*sorted(self.editions), self.record.edition)

    @property
    def folders(self) -> set[str]:
        """Folders below ``data/`` that are to be there, empty ones too."""
        return folders_of(self.record, self.files)

    def found_at(self, path: str) -> str:
        """Return where in the source's bag a path of this one is."""
        return self.source.get(path, path)

    def records_of_editions(self) -> dict[str, list[bytes]]:
        """Return the records of earlier editions to write, by path in the bag."""
        told = {edition_path(n): [records.encode_line(record)] for n, record in self.editions.items()}
        return told | {changes_path(n): lines for n, lines in self.lines.items()}


def folders_of(record: LibraryRecord, files: FileTable) -> set[str]:
    """Return the folders below ``data/`` of an edition, empty ones too."""
    names = {from_wire(changed.path): changed.stored for changed in record.changed_names}
    found = {LIBRARY_FOLDER}
    for folder in record.folders:
        own = from_wire(folder.path)
        stored = names.get(own, own)
        if stored and why_unsafe(stored) is None and is_text(stored):
            found.add(LIBRARY_FILES + stored)
    for path in files:
        found.update(parents(path))
    return found


def image_of(source: Held, limits: Limits, target: Held | None = None) -> Image:
    """Say what a bag becomes on a drive.

    Parameters
    ----------
    source : Held
        The bag that is copied.
    limits : Limits
        What the names of the target's drive can be.
    target : Held, optional
        What is there of it already.

    Raises
    ------
    DuneChestError
        If a record is not proven, or names what must not be used.
    """
    wanted = _numbers(source, target)
    states = _States(source, limits)
    image = Image(states.fitted[source.record.edition].record, _table(source.files, states.current))
    image.source = {DATA + new: DATA + old for old, new in states.current.names.items()}
    image.totals = {
        n: t
        for n, t in source.own.told_for_certain().items()
        if n in wanted and n in source.numbers and n != source.record.edition
    }
    same = all(not fitted.names for fitted in states.fitted.values()) and states.plain_records
    names = FittedEarlier(states.fitted, limits).paths(source.earlier)
    if wanted == set(source.numbers):
        image.verbatim = same and not names
        image.editions = {n: states.fitted[n].record for n in source.numbers[:-1]}
        for path, tag in source.earlier.items():
            _enter(image, names.get(path, path), path, tag)
        if not image.verbatim:
            image.lines = dict(_changes(states, source.numbers))
        return image
    assert target is not None
    image.verbatim = False
    _join_editions(image, source, target, states, names, wanted)
    return image


def _enter(image: Image, path: str, old: str, tag: Tag) -> None:
    image.earlier[path] = _under(tag, path)
    if path != old:
        image.source[path] = old


def _under(tag: Tag, path: str) -> Tag:
    """Return a tag file's entry under another path."""
    return tag if tag.path == path else Tag(path, tag.size, tag.sha512, tag.blake3)


def _numbers(source: Held, target: Held | None) -> set[int]:
    """Return the editions that the target has afterwards."""
    if target is None:
        return set(source.numbers)
    mine = set(target.numbers)
    return mine | {n for n in source.numbers if n > target.record.edition or n in mine}


def _table(files: FileTable, fitted: Fitted) -> FileTable:
    """Return the files of an edition under their fitted names."""
    if not fitted.names:
        return files
    found = FileTable()
    rows = []
    for proven in files.by_path():
        new = fitted.name(proven.record.path)
        rows.append(Proven(msgspec.structs.replace(proven.record, path=new), proven.raw))
    for proven in sorted(rows, key=lambda row: row.record.path):
        found[proven.record.path] = proven
    return found


class _States:
    """The editions of a bag, each with its files and fitted names; the files are gone through from the latest one back."""

    def __init__(self, held: Held, limits: Limits) -> None:
        self._held = held
        self.fitted: dict[int, Fitted] = {}
        self.plain_records = True
        for number, files in _walk_back(held):
            record = held.record if number == held.record.edition else held.own.edition(number)
            self.fitted[number] = fit_edition(record, files, limits)
            self.plain_records &= self.fitted[number].record is record

    @property
    def current(self) -> Fitted:
        """The current edition."""
        return self.fitted[self._held.record.edition]

    def files(self) -> Iterator[tuple[int, dict[str, FileRecord]]]:
        """Yield number and files of each edition under the fitted names, the latest first."""
        for number, files in _walk_back(self._held):
            fitted = self.fitted[number]
            if fitted.names:
                new = (msgspec.structs.replace(f, path=fitted.name(path)) for path, f in files.items())
                yield number, {file.path: file for file in new}
            else:
                yield number, dict(files)


def _walk_back(held: Held) -> Iterator[tuple[int, dict[str, FileRecord]]]:
    """Yield number and files of each edition, the latest first; what is yielded changes with the next step."""
    files = {path: proven.record for path, proven in held.files.items()}
    yield held.record.edition, files
    for number in reversed(held.numbers[:-1]):
        editions.step_back(files, editions.changes_of(held.own, number))
        yield number, files


def _changes(states: _States, numbers: tuple[int, ...]) -> Iterator[tuple[int, list[bytes]]]:
    """Yield for each earlier edition the lines in which it differs from the next."""
    yield from _differences(states.files())


def _differences(steps: Iterator[tuple[int, dict[str, FileRecord]]]) -> Iterator[tuple[int, list[bytes]]]:
    later: dict[str, FileRecord] | None = None
    for number, files in steps:
        if later is not None:
            lines = editions.differences(_sorted(files), _sorted(later))
            yield number, [records.encode_line(line) for line in lines]
        later = files


def _sorted(files: Mapping[str, FileRecord]) -> Iterator[FileRecord]:
    return (files[path] for path in sorted(files))


def _join_editions(
    image: Image, source: Held, target: Held, states: _States, names: Mapping[str, str], wanted: set[int]
) -> None:
    """Have the editions of both: those that only the target has keep what they need."""
    here = target.own.told_for_certain()
    only_here = [n for n in target.numbers if n not in source.numbers]
    needed: set[str] = {proven.record.blake3 for proven in image.files.values()}

    def steps() -> Iterator[tuple[int, dict[str, FileRecord]]]:
        there, mine = states.files(), ((n, dict(files)) for n, files in _walk_back(target))
        theirs, ours = next(there, None), next(mine, None)
        while theirs is not None or ours is not None:
            if ours is None or (theirs is not None and theirs[0] >= ours[0]):
                assert theirs is not None
                found = theirs
                if ours is not None and ours[0] == theirs[0]:
                    ours = next(mine, None)
                theirs = next(there, None)
            else:
                found, ours = ours, next(mine, None)
            if found[0] in wanted:
                needed.update(file.blake3 for file in found[1].values())
                yield found

    image.lines = dict(_differences(steps()))
    for number in sorted(wanted - {source.record.edition}):
        if number in only_here:
            last = number == target.record.edition
            image.editions[number] = target.record if last else target.own.edition(number)
            if last and source.record.mass_change:
                image.editions[number] = msgspec.structs.replace(target.record, protected=True)
            if number in here:
                image.totals[number] = here[number]
        else:
            image.editions[number] = states.fitted[number].record
    _join_earlier(image, source, target, names, needed)


def _join_earlier(image: Image, source: Held, target: Held, names: Mapping[str, str], needed: set[str]) -> None:
    """Keep in plain files and archives of pieces what the editions of both need."""
    theirs = pieces.kept_in(source.own.at, source.earlier)
    ours = pieces.kept_in(target.own.at, target.earlier)
    archives = {kept.path for kept in theirs.values()}, {kept.path for kept in ours.values()}
    plain = {proven.record.blake3 for proven in image.files.values()}
    there = {tag.blake3 for path, tag in source.earlier.items() if path not in archives[0]}
    mine = {tag.blake3 for path, tag in target.earlier.items() if path not in archives[1]}
    mine |= {proven.record.blake3 for proven in target.files.values()}
    chosen: dict[str, tuple[Kept, bool]] = {}
    for digest in sorted(needed - plain - there):
        if digest in theirs:
            chosen[digest] = theirs[digest], True
        elif digest in ours and digest not in mine:
            chosen[digest] = ours[digest], False
    _join_archives(image, source, target, names, chosen, (theirs, ours), plain | there | (mine - {*chosen}))
    bases = {item.base for item in image.joined} | {kept.about.base for kept, _ in chosen.values()}
    wanted = (needed - plain - {*chosen}) | (bases - plain - {*chosen})
    for path, tag in source.earlier.items():
        if path not in archives[0] and tag.blake3 in wanted:
            _enter(image, names.get(path, path), path, tag)
            wanted.discard(tag.blake3)
    for path, tag in target.earlier.items():
        if path not in archives[1] and tag.blake3 in wanted and path not in image.earlier:
            image.earlier[path] = tag
            wanted.discard(tag.blake3)
    number = target.record.edition
    for path, proven in target.files.items():
        if proven.record.blake3 in wanted:
            kept = kept_path(number, path)
            image.earlier[kept] = Tag(kept, proven.record.size, proven.sha512, proven.record.blake3)
            wanted.discard(proven.record.blake3)


def _join_archives(
    image: Image,
    source: Held,
    target: Held,
    names: Mapping[str, str],
    chosen: Mapping[str, tuple[Kept, bool]],
    every: tuple[Mapping[str, Kept], Mapping[str, Kept]],
    plain: set[str],
) -> None:
    """Choose an archive for each state in pieces, and have those hold what they need of the others."""
    theirs, ours = every
    marked = [_marked(kept, True) for kept in theirs.values()] + [_marked(kept, False) for kept in ours.values()]
    stays = {digest: _marked(kept, far) for digest, (kept, far) in chosen.items()}
    paths = {kept.path for kept in stays.values()}
    others = [kept for kept in marked if kept.path not in paths]
    where = {digest: kept for kept in others for digest in kept.pieces}
    there = {digest for kept in stays.values() for digest in kept.pieces}
    gone = {kept.about.blake3: kept for kept in others if kept.about.blake3 not in stays}
    gone = {digest: kept for digest, kept in gone.items() if digest not in plain}
    at = either(source.own, target.own)
    for digest, (kept, far) in chosen.items():
        item = stays[digest]
        path = names.get(kept.path, kept.path) if far else kept.path
        if path in image.earlier:
            path = f"{path[: -len(pieces.SUFFIX)]}-{digest[:8]}{pieces.SUFFIX}"
        more = {d: where[d] for d in pieces.list_of(at, item) if d in where and d not in there}
        there |= more.keys()
        base = pieces.base_of(item, gone)
        if more or base != item.about.base:
            image.joined.append(Joined(path, item, base, more))
            image.earlier[path] = Tag(path, 0, "", "")  # known when it is written
        elif far:
            _enter(image, path, kept.path, source.tags[kept.path])
        else:
            image.earlier[path] = target.tags[kept.path]


_FAR, _NEAR = "source:", "target:"


def _marked(kept: Kept, far: bool) -> Kept:
    return Kept((_FAR if far else _NEAR) + kept.path, kept.about, kept.pieces)


def either(source: BagRecords, target: BagRecords) -> pieces.At:
    """Return what says where an archive of pieces of a joined image lies: in the one bag, or in the other."""
    return lambda path: source.at(path[len(_FAR) :]) if path.startswith(_FAR) else target.at(path[len(_NEAR) :])


def plain_records(held: Held) -> list[Tag]:
    """Return the tag files of a bag that are no earlier states."""
    return [tag for path, tag in held.tags.items() if not path.startswith(_PREFIX) and path != TAGS]
