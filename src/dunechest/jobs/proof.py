"""Proof of a restore: after the bytes, the meaning. What the library was, and what it is here, side by side."""

from __future__ import annotations

import sqlite3
from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from dunechest.chest.origin import old_path
from dunechest.chest.records import LibraryRecord
from dunechest.jobs.restore_reading import BagTree
from dunechest.library.formats.base import Unread
from dunechest.library.formats.keyed import document_of, values
from dunechest.library.formats.sqlite import damage_in, questions
from dunechest.library.kinds.patterns import Patterns
from dunechest.library.kinds.schema import Kind
from dunechest.library.parts import Part, list_parts
from dunechest.library.references.reading import read_references
from dunechest.names import from_wire, shown, why_unsafe
from dunechest.transfer.walk import Walk, walk
from dunechest.words import number

if TYPE_CHECKING:
    from dunechest.jobs.restore import RestorePlan


@dataclass(frozen=True, slots=True)
class Then:
    """What the library was when it was archived.

    `references` are counts by where they led, None where only some of them come back; `parts` the number
    of files of each part by what it is and its name; `databases` their paths; `agreements` the
    number of descriptors that agreed with their folders, None if there are none.
    """

    references: Mapping[str, int] | None
    parts: Mapping[tuple[str, str], int]
    databases: tuple[str, ...]
    agreements: int | None


@dataclass(frozen=True, slots=True)
class Compared:
    """A line of the proof: what, how it was then, how it is now, whether that is well, and what is not."""

    what: str
    then: str
    now: str
    well: bool
    why: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Proof:
    """What was compared after a restore."""

    lines: tuple[Compared, ...]

    @property
    def well(self) -> bool:
        """Whether everything is as it was."""
        return all(line.well for line in self.lines)


def then_of(
    record: LibraryRecord,
    kind: Kind,
    tree: BagTree,
    sources: Sequence[str],
    parts: Sequence[Part],
    missing: Sequence[str] = (),
) -> Then:
    """Gather what the library was, as it was written down when it was archived, of what comes back of it.

    Nothing is counted in the bag: what is lost there would be missing in both counts. `missing` are paths of what
    the chest has lost.
    """
    coming = set(sources)
    whole = not parts
    databases = [from_wire(one.path) for one in record.databases if whole or from_wire(one.path) in coming]
    references = None
    if whole and kind.name == record.kind and not record.partial:
        counts = record.references
        references = {
            "inside": counts.inside,
            "stray": counts.strays,
            "missing": counts.missing,
            "away": counts.away,
        }
    chosen = {(part.what, part.name) for part in parts}
    sizes = {(part.what, part.name): part.files for part in record.parts if whole or (part.what, part.name) in chosen}
    lying = {file.path: file.size for file in tree.listing.files if file.path in coming}
    found = _agreements_in(kind, tree.root, coming, lying, {})
    # A folder of which the chest has lost something agreed when it was archived.
    agreed = sum(not why or any(path.startswith(f"{folder}/") for path in missing) for folder, why in found)
    return Then(references, sizes, tuple(databases), agreed if found else None)


def prove(plan: RestorePlan, place: Path, *, files: int, strays: int) -> Proof:
    """Look at a restored library as an application would, and compare it with what it was.

    Parameters
    ----------
    plan : RestorePlan
        What was restored.
    place : Path
        Where it is.
    files, strays : int
        So many files are in the library and outside of it, proven by digest.
    """
    expected = plan.listed
    lines = [
        Compared("files", f"{expected:,}", f"{files + strays:,}", files + strays == expected),
    ]
    if plan.record.shape == "file":
        if plan.then.databases:
            lines.append(_databases(plan, lambda path: place))
        return Proof(tuple(lines))
    names = dict(plan.renamed)
    if plan.then.databases:
        lines.append(_databases(plan, lambda path: place / (names.get(path) or path)))
    kind = plan.kind
    if kind.references or kind.parts or kind.agreements:
        listing = walk(str(place))
        # References that were left as they are name the old place, and mean this one.
        former = "" if plan.choice.repoint else old_path(plan.record)
        report = read_references(kind, place, listing, plan.choice.home_folder, former=former)
        lines += _references(plan, listing, Counter(r.state for r in report.references), report.unread, report)
        if plan.then.parts:
            home = plan.choice.home_folder
            found = list_parts(kind, place, listing, report.references, home, former=former)
            lines += _parts(plan, found)
        if plan.then.agreements is not None:
            lines.append(_agreements(plan, plan.then.agreements, place, listing, names))
    return Proof(tuple(lines))


def _databases(plan: RestorePlan, at: object) -> Compared:
    assert callable(at)
    wrong = []
    for path in plan.then.databases:
        try:
            with questions(at(path), seconds=3600.0) as connection:
                words = damage_in(connection, thorough=True)
        except (sqlite3.Error, OSError) as error:
            words = str(error)
        if words != "ok":
            anew = any(one.source == path for one in plan.references.anew)
            wrong.append(f"{shown(path)}: {shown(words)}" + ("" if anew else "; it was so when it was archived"))
    total = len(plan.then.databases)
    return Compared("databases sound", f"{total:,}", f"{total - len(wrong):,}", not wrong, tuple(wrong))


_STATES = (
    ("inside", "references to files of the library"),
    ("stray", "references to files outside it"),
    ("missing", "references that lead nowhere"),
)


def _references(
    plan: RestorePlan, listing: Walk, now: Counter[str], unread: Sequence[tuple[str, str]], report: object
) -> list[Compared]:
    """Compare where references lead; of a part, or in a library that had others, only that none of ours is lost."""
    then = plan.then.references
    if not plan.kind.references:
        return []
    references = getattr(report, "references", ())
    if then is None or plan.meeting.mode == "join":
        ours = {file.path for file in plan.files} - {file.path for file in plan.meeting.joined}
        lost = [r for r in references if r.source in ours and r.state == "missing"]
        allowed = len(plan.references.lost)
        total = sum(r.source in ours for r in references)
        why = tuple(f"{shown(r.source)}, {shown(r.spot)}: {shown(r.text)}" for r in lost[:20])
        well = len(lost) <= allowed
        return [
            Compared(
                "references that lead somewhere", f"{total:,}", f"{total - len(lost):,}", well, () if well else why
            )
        ]
    # What was never archived cannot be there: the account of the archive named it.
    left = len(plan.record.left_out) + len(plan.record.strays_left)
    lines = []
    for state, words in _STATES:
        was, is_now = then.get(state, 0), now[state]
        if not was and not is_now:
            continue
        fewer = was - is_now if state != "missing" else is_now - was
        # References that were left as they are still name the old places.
        left_alone = state != "missing" and not plan.choice.repoint
        well = fewer <= 0 or left_alone or (left > 0 and fewer <= len(plan.references.lost))
        why = (
            ()
            if well
            else tuple(
                f"{shown(r.source)}, {shown(r.spot)}: {shown(r.text)}" for r in references if r.state == "missing"
            )[:20]
        )
        lines.append(Compared(words, f"{was:,}", f"{is_now:,}", well, why))
    if unread:
        wrong = tuple(f"{shown(path)}: {shown(why)}" for path, why in unread)
        before = len(plan.references.unread)
        lines.append(
            Compared(
                "files of references that can be read", "all", f"{len(wrong):,} not", len(wrong) <= before, wrong
            )
        )
    return lines


def _parts(plan: RestorePlan, found: Iterable[Part]) -> list[Compared]:
    now = {(part.what, part.name): len(part.files) for part in found}
    wrong: dict[str, list[str]] = {}
    then_counts: Counter[str] = Counter()
    now_counts: Counter[str] = Counter()
    # A file that an archive could not take makes its part smaller; the account of the archive named it.
    for (what, name), count in plan.then.parts.items():
        then_counts[what] += 1
        is_now = now.get((what, name))
        if is_now is None:
            wrong.setdefault(what, []).append(f"{shown(name)} is not there")
            continue
        now_counts[what] += 1
        if is_now < count:
            wrong.setdefault(what, []).append(f"{shown(name)}: {number(is_now, 'file')} instead of {count:,}")
    return [
        Compared(f"{what}s", f"{count:,}", f"{now_counts[what]:,}", what not in wrong, tuple(wrong.get(what, ())))
        for what, count in sorted(then_counts.items())
    ]


def _agreements(plan: RestorePlan, then: int, place: Path, listing: Walk, names: Mapping[str, str]) -> Compared:
    """Compare what descriptors say with the folders they speak of."""
    sizes = {file.path: file.size for file in listing.files}
    found = _agreements_in(plan.kind, place, {file.path for file in plan.files}, sizes, names)
    agree, wrong = sum(not why for _, why in found), tuple(why for _, why in found if why)
    well = agree >= then
    return Compared(
        "descriptors that agree with their folders", f"{then:,}", f"{agree:,}", well, () if well else wrong
    )


def _agreements_in(
    kind: Kind, root: Path, paths: Iterable[str], sizes: Mapping[str, int], names: Mapping[str, str]
) -> list[tuple[str, str]]:
    """Return the folder of each descriptor, and what is wrong with it; nothing if the two agree."""
    found = []
    for spec in kind.agreements:
        for path in Patterns(spec.files).among(paths):
            try:
                document = document_of(root / path, spec.form)
            except Unread as error:
                found.append(("", f"{shown(path)}: {error}"))
                continue
            folder = next((text for _, text in values(document, tuple(spec.folder.split(".")), ())), "")
            if not folder or why_unsafe(folder) is not None:
                found.append(("", f"{shown(path)} names no folder"))
                continue
            folder = names.get(folder, folder)
            inside = [size for file, size in sizes.items() if file.startswith(folder + "/")]
            said = (_number(document, spec.count), _number(document, spec.bytes))
            is_now = (len(inside) if spec.count else None, sum(inside) if spec.bytes else None)
            why = "" if said == is_now else f"{shown(folder)} is not what {shown(path)} says of it"
            found.append((folder, why))
    return found


def _number(document: object, key: str) -> int | None:
    if not key:
        return None
    for name in key.split("."):
        document = document.get(name) if isinstance(document, dict) else None
    return document if isinstance(document, int) and not isinstance(document, bool) else -1
