"""What is to be said of a library before anything is copied."""

from __future__ import annotations

import os
from collections import Counter
from collections.abc import Collection, Iterable, Iterator, Sequence

from dunechest.findings import Finding
from dunechest.jobs.known.homes import home_at, home_of_second, known_homes
from dunechest.jobs.study.selection import PLACEHOLDER, total
from dunechest.library.environment import is_environment, made_from
from dunechest.library.in_use import Use
from dunechest.library.library import Library
from dunechest.library.recognise import expand
from dunechest.library.references.reading import Reference
from dunechest.machine.folders import own_home, standard_folders
from dunechest.model.findings import finding_of
from dunechest.model.study import Contents, Selection
from dunechest.names import shown
from dunechest.paths import prefix_of
from dunechest.transfer.system_files import is_rebuildable
from dunechest.transfer.walk import Walk


def library_findings(contents: Contents, selection: Selection, kept: Collection[str] = ()) -> list[Finding]:
    """Return the findings about a library and what was selected of it, in no order.

    Parameters
    ----------
    contents, selection
        The library, and what is taken of it.
    kept : collection of str
        Paths of files that cannot be seen now, and that an archive has already: nothing is lost of them.
    """
    library, listing = contents.library, contents.listing
    findings = [*_use(library, contents.uses), *_halves(library, listing), *_placeholders(selection, kept)]
    if not listing.files:
        findings.append(finding_of("empty"))
    if listing.unreadable:
        first_one = listing.unreadable[0]
        findings.append(
            finding_of("unreadable", names=len(listing.unreadable), first=first_one.path, why=first_one.why)
        )
    if listing.others:
        findings.append(finding_of("no-files", odd=len(listing.others)))
    findings += _of_systems(listing)
    findings += _moved(library)
    findings += _contains(contents)
    findings += _environment(contents)
    findings += _missing(contents, selection, kept)
    findings += _outside_files(selection)
    findings += _roles(contents, selection)
    findings += _elsewhere(library)
    return findings


def _of_systems(listing: Walk) -> list[Finding]:
    """Name what operating systems left in a library: it is nobody's work, but a person may look for it."""
    if not listing.system:
        return []
    names = Counter(file.path.rpartition("/")[2] for file in listing.system)
    beside = sum(count for name, count in names.items() if not is_rebuildable(name))
    listed = [f"{name} ({count:,})" for name, count in sorted(names.items()) if is_rebuildable(name)]
    listed += [f"._* ({beside:,})"] if beside else []
    tags = (
        " In files whose names begin with ._ a Mac keeps tags and comments of others; these are not kept."
        if beside
        else ""
    )
    return [finding_of("system-files", entries=len(listing.system), listed=", ".join(listed), tags=tags)]


def _moved(library: Library) -> list[Finding]:
    """Say that a library was moved to a drive, or that it is a second one made while that drive was missing."""
    homes = known_homes()
    home = home_at(library.path, homes) or home_of_second(library.path, homes)
    if home is None:
        return []
    if home.second is not None:
        if home.command:
            return [
                finding_of("two-libraries", message=home.message, command=home.command),
            ]
        return [finding_of("two-libraries/drive-away", message=home.message)]
    return [
        finding_of(
            "moved-here",
            old_path=str(home.old_path),
            way="its setting" if home.way == "setting" else "the link there",
            name=home.name,
        )
    ]


def _environment(contents: Contents) -> list[Finding]:
    """Say what an environment can be made again from."""
    if not is_environment(contents.library.kind):
        return []
    what = made_from(contents.library.path, (folder.path for folder in contents.listing.folders))
    return [finding_of("made-from", what=what)]


def _contains(contents: Contents) -> list[Finding]:
    """Say which libraries of other kinds lie in a library."""
    place = contents.library.path
    inner = [f"{inner.path.relative_to(place).as_posix()} ({inner.kind.title})" for inner in contents.contains]
    if not inner:
        return []
    return [finding_of("contains", libraries=len(inner), some=_some(inner, 5))]


def _some(names: Iterable[str], most: int = 3) -> str:
    """Return the first few of many names, made safe to show; one's own home is written as ``~``."""
    every = list(dict.fromkeys(names))
    home = prefix_of(os.path.realpath(own_home()))
    return ", ".join(shown(n.replace(home, prefix_of("~"), n.startswith(home))) for n in every[:most]) + (
        ", ..." if len(every) > most else ""
    )


def _use(library: Library, uses: Sequence[Use]) -> list[Finding]:
    if not uses:
        return []
    application = library.kind.application or "the application"
    first = uses[0]
    others = f" and {len(uses) - 1} more" if len(uses) > 1 else ""
    number = f" (process {first.process_id})" if first.process_id > 0 else ""
    return [
        finding_of(
            "in-use", process=first.process, number=number, others=others, how=first.how, application=application
        )
    ]


def _halves(library: Library, listing: Walk) -> list[Finding]:
    """Find what belongs together and is not there together."""
    files = {f.path for f in listing.files}
    folders = {f.path for f in listing.folders}
    findings = []
    for group in library.kind.together:
        present = [p for p in group if (p.rstrip("/") in folders if p.endswith("/") else p in files)]
        missing = [p for p in group if p not in present]
        if present and missing:
            findings.append(finding_of("half-library", present=", ".join(present), missing=", ".join(missing)))
    return findings


def _placeholders(selection: Selection, kept: Collection[str]) -> list[Finding]:
    placeholders = [
        file for file in selection.left_out if file.why == PLACEHOLDER and file.fault and file.path not in kept
    ]
    if not placeholders:
        return []
    return [
        finding_of(
            "placeholders",
            files=len(placeholders),
            total=sum(o.size_bytes for o in placeholders),
            some=_some(o.path for o in placeholders),
        )
    ]


def _missing(contents: Contents, selection: Selection, kept: Collection[str]) -> list[Finding]:
    """Say what references lead to nothing, to a drive that is not here, or to folders outside."""
    references = contents.references.references
    if selection.parts:  # what other parts refer to is not this archive's concern
        taken = {file.path for file in selection.listing.files} | {link.path for link in selection.listing.links}
        references = tuple(r for r in references if r.source in taken)
    lost = [r for r in references if r.target not in kept] if kept else references
    return [*_lost(lost), *_outside(references), *_unread(contents)]


def _lost(references: Sequence[Reference]) -> Iterator[Finding]:
    by_drive: dict[str, list[Reference]] = {}
    for reference in references:
        if reference.state == "missing":
            by_drive.setdefault(reference.drive, []).append(reference)
    nowhere = by_drive.pop("", [])
    for drive, away in sorted(by_drive.items()):
        yield finding_of("drive-away", references=len(away), drive=drive, some=_some(r.target for r in away))
    if nowhere:
        yield finding_of(
            "missing", references=len(nowhere), some=_some(f"{r.target} (in {r.source})" for r in nowhere)
        )


def _outside(references: Sequence[Reference]) -> Iterator[Finding]:
    folders = [r for r in references if r.state == "folder"]
    if folders:
        yield finding_of("folder-outside", links=len(folders), some=_some(r.target for r in folders))
    moved = [r for r in references if r.moved]
    if moved:
        yield finding_of("moved", references=len(moved), some=_some(r.text for r in moved))


def _unread(contents: Contents) -> Iterator[Finding]:
    unread = [(path, why) for path, why in contents.references.unread if why != "it is only a placeholder"]
    if unread:
        path, why = unread[0]
        yield finding_of("references-unread", files=len(unread), path=path, why=why)


def _outside_files(selection: Selection) -> list[Finding]:
    findings = []
    if selection.outside_files:
        held = total(outside_file.entry for outside_file in selection.outside_files)
        findings.append(
            finding_of(
                "outside-files",
                files=len(selection.outside_files),
                total=held,
                some=_some(outside_file.entry.path for outside_file in selection.outside_files),
            )
        )
    asked = [s for s in selection.outside_not_taken if s.why_not == "left where it is, as you asked"]
    if asked:
        findings.append(
            finding_of(
                "outside-files-left", files=len(asked), some=_some(outside_file.entry.path for outside_file in asked)
            )
        )
    odd = [s for s in selection.outside_not_taken if s not in asked and s.why_not != PLACEHOLDER]
    if odd:
        findings.append(
            finding_of(
                "outside-files-refused",
                files=len(odd),
                some=_some(f"{outside_file.entry.path} ({outside_file.why_not})" for outside_file in odd),
            )
        )
    return findings


def _roles(contents: Contents, selection: Selection) -> list[Finding]:
    findings = []
    roles, marks = contents.roles, contents.lock_marks
    # Where everything is essential, as mostly, half a million files need not be asked.
    special = [f for f in selection.listing.files if f.path in roles] if roles else []
    rebuildable = [f for f in special if roles[f.path] == "rebuildable" and f.path not in marks]
    held = total(rebuildable)
    if held:
        share = held * 100 // max(1, total(selection.listing.files))
        application = _application(contents.library)
        owner = f"{application[:1].upper()}{application[1:]}"
        if selection.rebuildable_taken:
            findings.append(
                finding_of(
                    "rebuildable/included",
                    owner=owner,
                    files=len(rebuildable),
                    held=held,
                    share=share,
                    application=application,
                )
            )
        else:
            findings.append(finding_of("rebuildable", owner=owner, files=len(rebuildable), held=held, share=share))
    kept = [f for f in special if roles[f.path] == "must-not-leave"]
    if kept:
        findings.append(
            finding_of("must-not-leave", files=len(kept), size=total(kept), some=_some(f.path for f in kept))
        )
    return findings


def _application(library: Library) -> str:
    return shown(library.kind.application) or "the application"


def _elsewhere(library: Library) -> list[Finding]:
    """Tell of what the application keeps outside the library."""
    findings = []
    folders = standard_folders(own_home())
    for item in library.kind.elsewhere:
        for place in expand(item.place, folders):
            if place.exists():
                findings.append(
                    finding_of(
                        "elsewhere",
                        application=library.kind.application or "The application",
                        what=item.what,
                        place=str(place),
                    )
                )
    return findings
