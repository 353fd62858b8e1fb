"""Plan to delete an original that a move set aside: its library goes on elsewhere. Nothing here changes anything."""

from __future__ import annotations

import os
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path

import msgspec
from msgspec.structs import replace

from dunechest.errors import NotConnectedError
from dunechest.findings import Finding, most_serious_first
from dunechest.jobs.known.homes import list_homes, places_meant
from dunechest.jobs.known.named import library_at
from dunechest.jobs.move.reclaim.held import as_copied
from dunechest.jobs.move.reclaim.planning.around import around_findings, mounts_in
from dunechest.jobs.move.reclaim.planning.staying import (
    LICENSED,
    PLACEHOLDER,
    Named,
    blocks_of,
    empty_ones,
    others_staying,
)
from dunechest.jobs.study.contents import list_library
from dunechest.ledger.asides import AsideFile, read_aside
from dunechest.ledger.ledger import PastAside, open_ledger
from dunechest.library.in_use import in_use
from dunechest.library.references.reading import ReferenceReport
from dunechest.library.roles import roles_of
from dunechest.machine.drives import filesystem
from dunechest.machine.folders import own_home
from dunechest.model.findings import finding_of
from dunechest.model.homes import Home
from dunechest.model.reclaim import USUAL, ReclaimOptions, ReclaimPlan
from dunechest.model.study import Contents
from dunechest.names import shown
from dunechest.paths import is_link
from dunechest.transfer.walk import FileEntry, entry_of
from dunechest.values import FrozenDict, PathAndWhy

#: A library is asked about if more of its files than this changed since it was moved, and more than this share of them.
_MANY, _SHARE = 20, 0.3


class Live(msgspec.Struct, frozen=True):
    """Where a library goes on of which an original was set aside, and what is known of it there."""

    place: Path
    home: Home | None


def asides_of(text: str) -> tuple[PastAside, ...]:
    """Return the originals that a word means: the name, the place or the old place of a moved library, or its own path."""
    return tuple(aside for aside in every_aside_of(text) if os.path.isdir(aside.path))


def every_aside_of(text: str) -> tuple[PastAside, ...]:
    """Return the originals that a word means, whether they are there or not."""
    meant = places_meant(text)
    with open_ledger() as ledger:
        every = ledger.asides()
        moved = ledger.former_homes()
    exact = [aside for aside in every if aside.path in meant]
    if exact:
        return tuple(exact)
    old = {before for before, now, _ in moved if meant & {before, now}} | meant
    homes = {str(home.old_path) for home in list_homes() if str(home.path) in meant}
    by_place = [aside for aside in every if aside.old in old | homes]
    return tuple(by_place or [aside for aside in every if aside.name == text])


def live_of(aside: PastAside) -> Live:
    """Return where the library of an original goes on.

    Raises
    ------
    NotConnectedError
        If that is not there now.
    """
    home = next((home for home in list_homes() if str(home.old_path) == aside.old), None)
    if home is None:
        place = Path(aside.old)
        if not place.is_dir() or is_link(place):
            raise NotConnectedError(
                f"{shown(aside.name)} is not in {shown(aside.old)}, so its original was not deleted. Nothing was changed. "
                "Connect its drive first."
            )
        return Live(place, None)
    if not home.connected:
        raise NotConnectedError(
            f"{shown(home.name)} is on the drive {shown(home.drive)}, which is not connected, so its original was not deleted. "
            "Nothing was changed. Connect the drive first."
        )
    return Live(home.path, home)


def plan_aside(aside: PastAside, options: ReclaimOptions = USUAL) -> ReclaimPlan:
    """Plan to delete an original that was set aside. Changes nothing.

    Parameters
    ----------
    aside : PastAside
        What was written down of it.
    options : ReclaimOptions
        What was chosen.

    Raises
    ------
    NotConnectedError
        If the library is not connected that it is the original of.
    """
    live = live_of(aside)
    place = Path(aside.path)
    library = replace(library_at(place), name=aside.name)
    listing = list_library(library)
    home = Path(os.path.realpath(own_home()))
    uses = in_use(place, library.kind, [f.path for f in listing.files if not f.placeholder], home)
    roles = FrozenDict(roles_of(library.kind, listing.files, frozenset()))
    contents = Contents(library, listing, roles, uses, ReferenceReport(), ())
    known = read_aside(aside.listing) if aside.listing else None
    going, staying = _divide(contents, known or {}, live, options)
    links = tuple(link.path for link in listing.links if known and link.path in known and known[link.path].size == -2)
    staying += [
        PathAndWhy(link.path, "it was not there when it was set aside")
        for link in listing.links
        if link.path not in links
    ]
    staying += others_staying(listing)
    links += tuple(empty_ones(listing))
    plan = ReclaimPlan(
        name=aside.name,
        what="set-aside",
        path=place,
        library=library,
        options=options,
        in_use_path=live.place,
        going=tuple(going),
        links=links,
        folders=tuple(folder.path for folder in listing.folders),
        kept_files=tuple(sorted(staying)),
        outside=(),
        copies=(),
        first_checked_labels=(),
        first_drilled_label="",
        taken=None,
        listing=aside.listing,
        restore_command="",
        disk_bytes=blocks_of(place, going),
    )
    return replace(plan, findings=most_serious_first(_findings(plan, contents, live, known)))


def _divide(
    contents: Contents, known: Mapping[str, AsideFile], live: Live, options: ReclaimOptions
) -> tuple[list[FileEntry], list[PathAndWhy]]:
    """Divide an original's files into those that go and those that stay, each of these with the reason."""
    named = Named(options.also)
    going: list[FileEntry] = []
    staying: list[PathAndWhy] = []
    for file in contents.listing.files:
        why = _why_stays(contents, file, known.get(file.path), live)
        if why and not named.match(file.path):
            staying.append(PathAndWhy(file.path, why))
        else:
            going.append(file)
    return going, staying


def _why_stays(contents: Contents, file: FileEntry, then: AsideFile | None, live: Live) -> str:
    if file.placeholder:
        return PLACEHOLDER
    if contents.library.kind.lock_patterns.match(file.path) and then is None and file.size < 512:
        return ""
    if then is None:
        return "it is not known to have been copied"
    if (file.size, file.mtime_ns) != (then.size, then.mtime_ns):
        return "it was changed since it was set aside"
    if contents.roles.get(file.path) == "must-not-leave":
        return LICENSED
    if contents.roles.get(file.path) == "rebuildable":
        return ""
    now = entry_of(str(live.place / file.path))
    if now is None:
        return "it is no longer in the library"
    return "it is empty in the library now" if file.size and not now.size else ""


def _mass_change(
    plan: ReclaimPlan, contents: Contents, live: Live, known: Mapping[str, AsideFile]
) -> Iterator[Finding]:
    """Yield a finding if much of the library is no longer what was moved, by a person or by a failing drive."""
    essential = [file for file in plan.going if contents.roles.get(file.path, "essential") == "essential"]
    own = [file for file in essential if file.path not in known or not known[file.path].updated]
    changed = [file for file in own if not as_copied(live.place, file)]
    if len(changed) > _MANY and len(changed) > _SHARE * len(own):
        yield finding_of(
            "mass-change/reclaim", changed=len(changed), files=len(own), place=str(live.place), first=changed[0].path
        )


def _findings(
    plan: ReclaimPlan, contents: Contents, live: Live, known: Mapping[str, AsideFile] | None
) -> Iterator[Finding]:
    if known is None:
        yield finding_of("not-listed")
        return
    if os.path.realpath(live.place) == os.path.realpath(plan.path):
        yield finding_of("is-live")
        return
    if live.home is not None and live.home.second is not None:
        yield finding_of("two-libraries/reclaim", message=live.home.message, name=live.home.name)
    yield from around_findings(plan.library, contents.uses, plan.going, whole=not any(mounts_in(plan.path)))
    try:
        if filesystem(live.place).type in ("tmpfs", "ramfs") and filesystem(plan.path).type not in (
            "tmpfs",
            "ramfs",
        ):
            yield finding_of("in-memory/reclaim", place=str(live.place))
    except OSError:
        pass
    yield from _mass_change(plan, contents, live, known)
    old = (live.home.old_path,) if live.home is not None else ()
    yield from only_copy(plan.name, live.place, (live.place, *old))
    if plan.kept_files:
        some = "; ".join(f"{shown(path)} ({shown(why)})" for path, why in plan.kept_files[:3])
        yield finding_of(
            "staying/aside", links=len(plan.kept_files), some=some, more=", ..." if len(plan.kept_files) > 3 else ""
        )
    if not plan.going:
        yield finding_of("nothing")


def only_copy(name: str, left: Path, places: Sequence[Path]) -> Iterator[Finding]:
    """Yield a finding if a library is in no chest: what is left without the original is the only copy.

    Parameters
    ----------
    name : str
        The library's name.
    left : Path
        Where it is without the original.
    places : sequence of Path
        Where it may have been when it was archived.
    """
    texts = {shown(str(place)) for place in places}
    with open_ledger() as ledger:
        chests = {chest.id for chest in ledger.chests() if chest.retired is None}
        held = any(not item.gone and item.chest in chests and item.origin in texts for item in ledger.holdings())
    if not held:
        yield finding_of("only-copy", name=name, left=str(left))
