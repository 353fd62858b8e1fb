"""Check a restored library as an application would see it, against what it was."""

from __future__ import annotations

import os
import sqlite3
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from dunechest.chest.origin import old_path
from dunechest.jobs.restore.descriptors import agreements_in
from dunechest.library.formats.sqlite import damage_in, questions
from dunechest.library.integrity import check_repository, databases_in, repositories_in
from dunechest.library.parts import Part, list_parts
from dunechest.library.references.open_formats import renamed
from dunechest.library.references.reading import ReferenceReport, read_references
from dunechest.model.restore import Compared, Proof
from dunechest.names import shown
from dunechest.transfer.walk import Walk, as_expected, walk
from dunechest.words import number

if TYPE_CHECKING:
    from dunechest.model.restore import RestorePlan


def prove(plan: RestorePlan, place: Path, *, files: int, outside_files: int) -> Proof:
    """Look at a restored library as an application would, and compare it with what it was.

    Parameters
    ----------
    plan : RestorePlan
        What was restored.
    place : Path
        Where it is.
    files, outside_files : int
        So many files are in the library and outside of it, proven by digest.
    """
    expected = plan.listed
    lines = [
        Compared("files", f"{expected:,}", f"{files + outside_files:,}", files + outside_files == expected),
    ]
    if plan.options.files:  # single files: the library around them is what it was
        return Proof(tuple(lines))
    if plan.record.shape == "file":
        if plan.as_archived.databases:
            lines.append(_databases(plan, dict.fromkeys(plan.as_archived.databases, place)))
        return Proof(tuple(lines))
    names = dict(plan.renamed)
    listing = _ours(plan, as_expected(walk(str(place)), (file.path for file in plan.files), place))
    lines += _sound(plan, place, listing, names)
    kind = renamed(plan.kind, names)
    if kind.references or kind.parts or kind.agreements:
        if plan.existing.mode == "merge":
            listing = as_expected(walk(str(place)), (file.path for file in plan.files), place)
        # References that were left as they are name the old place, and mean this one.
        former = "" if plan.options.repoint else old_path(plan.record)
        report = read_references(kind, place, listing, plan.options.home_folder, former=former)
        report = _without_originals(plan, report)
        lines += _references(plan, listing, Counter(r.state for r in report.references), report.unread, report)
        if plan.as_archived.parts and kind.parts:
            home = plan.options.home_folder
            found = list_parts(kind, place, listing, report.references, home, former=former)
            lines += _parts(plan, found)
        if plan.as_archived.agreements is not None:
            lines.append(_agreements(plan, plan.as_archived.agreements, place, listing, names))
    return Proof(tuple(lines))


def _without_originals(plan: RestorePlan, report: ReferenceReport) -> ReferenceReport:
    """Count what leads to an original, and not to the copy that was restored of it, as leading nowhere: it proves nothing."""
    elsewhere = {os.path.realpath(item.path) for item in plan.outside_files if Path(item.path) != item.new_path}
    if not elsewhere or not plan.options.repoint:
        return report
    return msgspec.structs.replace(
        report,
        references=tuple(
            msgspec.structs.replace(r, state="missing")
            if r.state == "outside" and os.path.realpath(r.target) in elsewhere
            else r
            for r in report.references
        ),
    )


def _ours(plan: RestorePlan, listing: Walk) -> Walk:
    """Narrow the listing of a folder that had other things in it to what was restored."""
    if plan.existing.mode != "merge":
        return listing
    ours = {file.path for file in plan.files}
    return msgspec.structs.replace(listing, files=tuple(file for file in listing.files if file.path in ours))


def _sound(plan: RestorePlan, place: Path, listing: Walk, names: Mapping[str, str]) -> Iterator[Compared]:
    """Ask SQLite about each database, those that are files like others too, and version control about each repository."""
    places = {path: place / (names.get(path) or path) for path in plan.as_archived.databases}
    captured = set(places.values())
    places |= {path: place / path for path in databases_in(place, listing) if place / path not in captured}
    if places:
        yield _databases(plan, places)
    asked = {path: check_repository(place / path) for path in repositories_in(listing)}
    told = {path: words for path, words in asked.items() if words is not None}
    if told:
        wrong = tuple(f"{shown(path or '.')}: {words}" for path, words in told.items() if words)
        well = len(told) - len(wrong)
        yield Compared("repositories intact", f"{len(told):,}", f"{well:,}", not wrong, wrong)


def _databases(plan: RestorePlan, places: Mapping[str, Path]) -> Compared:
    """Ask SQLite about databases; of one that came back byte for byte, what is wrong was wrong before."""
    captured = set(plan.as_archived.databases)
    updated = {update.file for update in plan.references.updates}
    wrong, before = [], 0
    for path, place in places.items():
        try:
            with questions(place, seconds=3600.0) as connection:
                words = damage_in(connection, thorough=True)
        except (sqlite3.Error, OSError) as error:
            words = str(error)
        if words != "ok":
            same = path not in updated
            before += same and path not in captured
            wrong.append(f"{shown(path)}: {shown(words)}" + ("; the same when it was archived" if same else ""))
    then, now = len(places) - before, len(places) - len(wrong)
    return Compared("databases intact", f"{then:,}", f"{now:,}", then == now, tuple(wrong))


_STATES = (
    ("inside", "references to files of the library"),
    ("outside", "references to files outside it"),
    ("missing", "references that lead nowhere"),
)


def _references(
    plan: RestorePlan, listing: Walk, now: Counter[str], unread: Sequence[tuple[str, str]], report: object
) -> list[Compared]:
    """Compare where references lead; of a part, or in a library that had others, only that none of ours is lost."""
    then = plan.as_archived.references
    if not plan.kind.references:
        return []
    references = getattr(report, "references", ())
    if then is None or plan.existing.mode == "merge":
        ours = {file.path for file in plan.files} - {file.path for file in plan.existing.merged}
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
    # What was never archived cannot be there: the summary of the archive named it.
    left = len(plan.record.left_out) + len(plan.record.outside_left)
    lines = []
    for state, words in _STATES:
        was, is_now = then.get(state, 0), now[state]
        if not was and not is_now:
            continue
        fewer = was - is_now if state != "missing" else is_now - was
        # References that were left as they are still name the old places.
        left_alone = state != "missing" and not plan.options.repoint
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
    # A file that an archive could not take makes its part smaller; the summary of the archive named it.
    for (what, name), count in plan.as_archived.parts.items():
        then_counts[what] += 1
        is_now = now.get((what, name))
        if is_now is None:
            wrong.setdefault(what, []).append(f"{shown(name)} is missing")
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
    found = agreements_in(plan.kind, place, {file.path for file in plan.files}, sizes, names)
    agree, wrong = sum(not why for _, why in found), tuple(why for _, why in found if why)
    well = agree >= then
    return Compared(
        "descriptors that agree with their folders", f"{then:,}", f"{agree:,}", well, () if well else wrong
    )
