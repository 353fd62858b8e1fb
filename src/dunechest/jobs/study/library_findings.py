"""What is to be said of a library before anything is copied."""

from __future__ import annotations

import os
from collections import Counter
from collections.abc import Collection, Iterable, Iterator, Sequence

from dunechest.findings import Finding
from dunechest.jobs.homes import home_at, home_of_second, known_homes
from dunechest.jobs.study.selection import PLACEHOLDER, total
from dunechest.library.environment import is_environment, made_from
from dunechest.library.in_use import Use
from dunechest.library.library import Library
from dunechest.library.recognise import expand
from dunechest.library.references.reading import Reference
from dunechest.machine.folders import own_home, standard_folders
from dunechest.model.study import Contents, Selection
from dunechest.names import quoted, shown
from dunechest.paths import prefix_of
from dunechest.transfer.system_files import is_rebuildable
from dunechest.transfer.walk import Walk
from dunechest.words import number, size


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
        findings.append(Finding("empty", "warning", "It contains no files.", "Check that this is the right folder."))
    if listing.unreadable:
        first_one = listing.unreadable[0]
        findings.append(
            Finding(
                "unreadable",
                "warning",
                f"{number(len(listing.unreadable), 'folder or name', 'folders or names')} cannot be read, "
                f"first {shown(first_one.path)}: {first_one.why}.",
                "Run the command as a user who may read them; otherwise they are not archived.",
            )
        )
    if listing.others:
        findings.append(
            Finding(
                "no-files",
                "info",
                f"It contains {number(len(listing.others), 'socket, pipe or device', 'sockets, pipes and devices')}.",
                "They have no content; they are listed and left out.",
            )
        )
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
    return [
        Finding(
            "system-files",
            "info",
            f"{number(len(listing.system), 'file or folder', 'files and folders')} of operating systems "
            f"{'is' if len(listing.system) == 1 else 'are'} left "
            f"out: {shown(', '.join(listed))}.",
            f"Systems make them again.{tags}",
        )
    ]


def _moved(library: Library) -> list[Finding]:
    """Say that a library was moved to a drive, or that it is a second one made while that drive was missing."""
    homes = known_homes()
    home = home_at(library.path, homes) or home_of_second(library.path, homes)
    if home is None:
        return []
    if home.second is not None:
        do = home.command or "Connect the drive first, and then make one library of the two."
        return [
            Finding(
                "two-libraries",
                "warning",
                home.message,
                f"To make one library of the two: {do}" if home.command else do,
            )
        ]
    return [
        Finding(
            "moved-here",
            "info",
            f"It was moved here from {shown(str(home.old_path))}; its application finds it by "
            f"{'its setting' if home.way == 'setting' else 'the link there'}.",
            f"To move it back: dunechest rehome --back {quoted(home.name)}",
        )
    ]


def _environment(contents: Contents) -> list[Finding]:
    """Say what an environment can be made again from."""
    if not is_environment(contents.library.kind):
        return []
    what = made_from(contents.library.path, (folder.path for folder in contents.listing.folders))
    return [
        Finding(
            "made-from",
            "info",
            f"All of it can be rebuilt, from {shown(what)}.",
            "Archive the list of its packages; then the environment itself need not be archived.",
        )
    ]


def _contains(contents: Contents) -> list[Finding]:
    """Say which libraries of other kinds lie in a library."""
    place = contents.library.path
    inner = [f"{inner.path.relative_to(place).as_posix()} ({inner.kind.title})" for inner in contents.contains]
    if not inner:
        return []
    return [
        Finding(
            "contains",
            "info",
            f"It contains {number(len(inner), 'other library', 'other libraries')}: {_some(inner, 5)}.",
            "They are archived with it. Each can also be archived on its own, by its path.",
        )
    ]


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
        Finding(
            "in-use",
            "blocks",
            f"The library is in use by {shown(first.process)}{number}{others}: {shown(first.how)}.",
            f"Close {application} and try again. Or continue with --ignore in-use; files that change meanwhile may then "
            "not match each other.",
            yields=True,
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
            findings.append(
                Finding(
                    "half-library",
                    "blocks",
                    f"{', '.join(present)} is here, but {', '.join(missing)} is missing; they are only useful together.",
                    "Put the missing half back in its place, or continue with --ignore half-library.",
                    yields=True,
                )
            )
    return findings


def _placeholders(selection: Selection, kept: Collection[str]) -> list[Finding]:
    placeholders = [
        file for file in selection.left_out if file.why == PLACEHOLDER and file.fault and file.path not in kept
    ]
    if not placeholders:
        return []
    return [
        Finding(
            "placeholders",
            "blocks",
            f"{number(len(placeholders), 'essential file')} {'is' if len(placeholders) == 1 else 'are'} only "
            f"{'a placeholder' if len(placeholders) == 1 else 'placeholders'}; the content "
            f"({size(sum(o.size_bytes for o in placeholders))}) is not on this computer: "
            f"{_some(o.path for o in placeholders)}.",
            "Have the application or service download them first. Or leave them out with --ignore placeholders, or read "
            "them with --read-placeholders, which may download them.",
            yields=True,
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
        yield Finding(
            "drive-away",
            "warning",
            f"{number(len(away), 'reference')} to the drive or card {shown(drive)!r}, which is not connected: "
            f"{_some(r.target for r in away)}.",
            f"Connect {shown(drive)} and look again; otherwise what is on it is not protected.",
        )
    if nowhere:
        yield Finding(
            "missing",
            "warning",
            f"{number(len(nowhere), 'reference')} to files that do not exist: "
            f"{_some(f'{r.target} (in {r.source})' for r in nowhere)}.",
            "Look for these files before you delete the original; the application cannot find them either.",
        )


def _outside(references: Sequence[Reference]) -> Iterator[Finding]:
    folders = [r for r in references if r.state == "folder"]
    if folders:
        yield Finding(
            "folder-outside",
            "warning",
            f"{number(len(folders), 'reference or link', 'references or links')} to folders outside the library, "
            f"which are not archived: {_some(r.target for r in folders)}.",
            "If they matter, archive each of them too, by its path.",
        )
    moved = [r for r in references if r.moved]
    if moved:
        yield Finding(
            "moved",
            "info",
            f"{number(len(moved), 'reference')} to another place, but the files are here: "
            f"{_some(r.text for r in moved)}.",
            "The library was moved, or comes from an old system. The files are archived as they are.",
        )


def _unread(contents: Contents) -> Iterator[Finding]:
    unread = [(path, why) for path, why in contents.references.unread if why != "it is only a placeholder"]
    if unread:
        path, why = unread[0]
        yield Finding(
            "references-unread",
            "warning",
            f"References could not be read in {number(len(unread), 'file')}, first {shown(path)}: {shown(why)}.",
            "They are archived as they are. Outside files that only they name are not found.",
        )


def _outside_files(selection: Selection) -> list[Finding]:
    findings = []
    if selection.outside_files:
        held = total(outside_file.entry for outside_file in selection.outside_files)
        findings.append(
            Finding(
                "outside-files",
                "info",
                f"It uses {number(len(selection.outside_files), 'file')} ({size(held)}) stored elsewhere: "
                f"{_some(outside_file.entry.path for outside_file in selection.outside_files)}.",
                "They are archived too; skip them with --without-outside-files.",
            )
        )
    asked = [s for s in selection.outside_not_taken if s.why_not == "left where it is, as you asked"]
    if asked:
        findings.append(
            Finding(
                "outside-files-left",
                "warning",
                f"It uses {number(len(asked), 'file')} stored elsewhere that this archive does not protect: "
                f"{_some(outside_file.entry.path for outside_file in asked)}.",
                "Leave out --without-outside-files to archive them too.",
            )
        )
    odd = [s for s in selection.outside_not_taken if s not in asked and s.why_not != PLACEHOLDER]
    if odd:
        findings.append(
            Finding(
                "outside-files-refused",
                "warning",
                f"It uses {number(len(odd), 'file')} that will not be archived: "
                f"{_some(f'{outside_file.entry.path} ({outside_file.why_not})' for outside_file in odd)}.",
                "Nothing is archived from such places unless you ask: if they matter, archive them by their paths.",
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
        again = f"{application[:1].upper()}{application[1:]} can rebuild {number(len(rebuildable), 'file')} ({size(held)})"
        if selection.rebuildable_taken:
            what = again
            do = f"Included. --without-rebuildable saves {share}% of the space; {application} must then rebuild them."
        else:
            what = again + "; left out"
            do = f"That saves {share}% of the space. --with-rebuildable includes them; then they need not be rebuilt."
        findings.append(Finding("rebuildable", "info", what + ".", do))
    kept = [f for f in special if roles[f.path] == "must-not-leave"]
    if kept:
        findings.append(
            Finding(
                "must-not-leave",
                "info",
                f"{number(len(kept), 'file')} ({size(total(kept))}), bought or licensed, must not leave this "
                f"computer: {_some(f.path for f in kept)}.",
                "They are left out and listed. Keep the receipt or licence to get them again.",
            )
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
                    Finding(
                        "elsewhere",
                        "warning",
                        f"{library.kind.application or 'The application'} keeps {shown(item.what)} outside "
                        f"the library, in {shown(str(place))}.",
                        "Archive that folder too: it is not part of this library.",
                    )
                )
    return findings
