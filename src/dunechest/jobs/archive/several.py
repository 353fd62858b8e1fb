"""Archive libraries to one chest or several: planned for all of them first, and each library is read once."""

from __future__ import annotations

import os
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from contextlib import AbstractContextManager, nullcontext
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec

from dunechest.chest.chest import Chest
from dunechest.errors import CutOffError, UsageError, refuse_blocked
from dunechest.findings import Finding, blocking
from dunechest.jobs.archive.unchanged import looked_into, own_bags, unchanged
from dunechest.jobs.known.holdings import note_refused
from dunechest.jobs.known.named import AnyLibrary, get_chest, get_libraries
from dunechest.ledger import events
from dunechest.library.library import Library
from dunechest.model.archive import LASTING_CODES, PASSING_CODES, USUAL, ArchiveOptions, ArchiveResult
from dunechest.names import AnyPath, shown
from dunechest.progress import Progress, silent
from dunechest.transfer.fingerprints import MANY
from dunechest.transfer.helpers import WORTH_ASKING, standing, start_ahead

if TYPE_CHECKING:
    from dunechest.chest.bag_entry import BagEntry
    from dunechest.chest.payload import PayloadSizes
    from dunechest.model.archive import ArchivePlan
    from dunechest.model.study import Contents
    from dunechest.transfer.walk import Walk

#: Gives the progress to tell, for as long as one library is archived to one chest.
Following = Callable[[], AbstractContextManager[Progress]]


class Several(msgspec.Struct):
    """What is to be archived to which chests.

    Parameters
    ----------
    libraries : tuple of Library
        In the order in which they were named.
    chests : tuple of Chest
        Likewise.
    seen : dict
        Results of those that a chest has unchanged already, by chest's id and library's path.
    plans : dict
        The plans of the others.
    """

    libraries: tuple[Library, ...]
    chests: tuple[Chest, ...]
    seen: dict[tuple[str, Path], ArchiveResult] = msgspec.field(default_factory=dict)
    plans: dict[tuple[str, Path], ArchivePlan] = msgspec.field(default_factory=dict)

    @property
    def bytes(self) -> dict[str, int]:
        """Bytes to write of each library, to all chests together."""
        found: dict[str, int] = {}
        for plan in self.plans.values():
            found[plan.library.name] = found.get(plan.library.name, 0) + plan.copy_bytes
        return found


def plan_several(libraries: Iterable[Library], chests: Sequence[Chest], options: ArchiveOptions) -> Several:
    """Plan the archive of libraries to chests; each library is looked through once.

    Raises
    ------
    UsageError
        If two of the chests are the same.
    """
    _refuse_twice(chests)
    # Planning and doing are loaded where there is something to plan or do: mostly a library is as it was.
    several = Several(tuple(libraries), tuple(chests))
    studied: dict[Path, Contents] = {}
    for chest in chests:
        rest = []
        lying: dict[str, PayloadSizes] = {}
        for library in several.libraries:
            own = own_bags(library, chest, options)
            lying |= looked_into(own)
            listing = _listing(library, own)
            result = unchanged(library, chest, options, own, lying, listing)
            if result is not None:
                several.seen[chest.id, library.path] = result
                _settle(own, lying)
                continue
            from dunechest.jobs.archive.planning.kinds import with_former_kind
            from dunechest.jobs.study.contents import study

            former = with_former_kind(library, chest)
            contents = studied.get(library.path)
            if contents is None or contents.library.kind != former.kind:
                if not own:
                    listing = _listed_for_copying(former)
                contents = studied[library.path] = study(former, listing)
            _settle(own, lying)
            rest.append(contents)
        if not rest:
            continue
        from dunechest.jobs.archive.planning.plan_archive import plan_having_looked

        for plan in plan_having_looked(rest, chest, options, lying):
            several.plans[chest.id, plan.library.path] = plan
    return several


def _settle(own: Sequence[BagEntry], lying: Mapping[str, PayloadSizes]) -> None:
    """Wait for those who look into the bags of one library, so that they are there for the next one."""
    for entry in own:
        if entry.name in lying:
            lying[entry.name].count()


def _listing(library: Library, own: Sequence[BagEntry]) -> Walk | None:
    """Walk a library of which most will be as it was, if one walk is to do for that and for a plan; None if not.

    A small one is soon walked twice, and most of those are unchanged; a very large one several helpers look over.
    """
    files = max((entry.library.totals.files_found for entry in own if entry.library is not None), default=0)
    if library.shape != "folder" or not WORTH_ASKING <= files < MANY:
        return None
    from dunechest.jobs.study.contents import list_library

    return list_library(library)


def _listed_for_copying(library: Library) -> Walk:
    """Walk a library of which the chest has nothing, and start those who will copy it: it is yet to be studied."""
    from dunechest.jobs.study.contents import list_library
    from dunechest.transfer.workers import workers_for

    listing = list_library(library)
    start_ahead(workers_for(len(listing.files), listing.bytes))
    return listing


def _refuse_twice(chests: Sequence[Chest]) -> None:
    for number, chest in enumerate(chests):
        for other in chests[:number]:
            if chest.id == other.id or os.path.samefile(chest.folder, other.folder):
                raise UsageError(f"{shown(chest.label)} and {shown(other.label)} are the same chest: name it once.")


def refuse_several(several: Several) -> None:
    """Raise `RefusedError` if a blocking finding remains for any library and chest; nothing is archived then."""
    blocked: dict[str, tuple[Finding, ...]] = {}
    for library in several.libraries:
        plans = [
            several.plans[chest.id, library.path]
            for chest in several.chests
            if (chest.id, library.path) in several.plans
        ]
        found = {plan.chest.label: blocking(plan.findings, plan.options.ignore) for plan in plans}
        # What keeps a library from all of them is said once.
        common = [item for item in next(iter(found.values()), ()) if all(item in own for own in found.values())]
        blocked[library.name] = tuple(common)
        for label, own in found.items():
            rest = tuple(item for item in own if item not in common)
            if rest:
                blocked[f"{library.name} to {label}"] = rest
    for plan in several.plans.values():
        if plan.state == "blocked":
            note_refused(plan.chest, plan.archived_as)
    _note_decisions(several)
    refuse_blocked("Refused: nothing was archived, because {} cannot be archived now.", blocked)


def _note_decisions(several: Several) -> None:
    """Note what a person has to decide, so that the same command is not proposed again and again."""
    told = []
    for plan in several.plans.values():
        open_ = [
            item
            for item in blocking(plan.findings, plan.options.ignore)
            if item.code in LASTING_CODES | PASSING_CODES
        ]
        for item in open_[:1]:
            facts = {"place": shown(str(plan.library.path)), "chest": plan.chest.id, "code": item.code}
            told.append(("refused", facts | {"message": shown(item.message), "action": shown(item.action)}))
    if told:
        events.try_append(*told)


def archive_several(
    several: Several, following: Following, cut_off: list[CutOffError]
) -> Iterator[tuple[Chest, ArchiveResult]]:
    """Archive each library to each chest, and yield what was done.

    A chest whose drive goes away gets no more; the others are served all the same.

    Parameters
    ----------
    several : Several
        From `plan_several`.
    following : callable
        Gives the progress to tell.
    cut_off : list
        Gets the errors of drives that were full, gone or failing.
    """
    away: set[str] = set()
    for library in several.libraries:
        first: tuple[Chest, ArchiveResult] | None = None
        for chest in several.chests:
            if chest.id in away:
                continue
            result = several.seen.get((chest.id, library.path))
            if result is None:
                from dunechest.jobs.archive.doing.archiving import carry_out

                plan = several.plans[chest.id, library.path]
                try:
                    with following() as progress:
                        after, other = (first[1], first[0]) if first is not None else (None, None)
                        result = carry_out(plan, progress=progress, after=after, other=other)
                except CutOffError as error:
                    cut_off.append(error)
                    away.add(chest.id)
                    if len(several.chests) == 1:
                        raise
                    continue
            first = first or (chest, result)
            yield chest, result


def archive(
    libraries: AnyLibrary | Iterable[AnyLibrary],
    chest: Chest | AnyPath | Sequence[Chest | AnyPath],
    options: ArchiveOptions = USUAL,
    *,
    progress: Progress = silent,
) -> tuple[ArchiveResult, ...]:
    """Archive one or several libraries to a chest, or to several chests; each library is read once.

    Parameters
    ----------
    libraries : Library, path, name, or several of them
        What to archive.
    chest : Chest, path or label, or several of them
        Where to.
    options : ArchiveOptions
        What was chosen: the bag's name, parts, files outside, what to overrule.
    progress : Progress
        Told how far it is.

    Returns
    -------
    tuple of ArchiveResult
        The summary of each library, in their order, and in that of the chests for each; look at `ArchiveResult.ok`.

    Raises
    ------
    RefusedError
        If a blocking finding remains. Nothing was changed.
    CutOffError
        If a drive is full, gone or failing. The same call continues; other chests were served all the same.

    Examples
    --------
    >>> import dunechest, pathlib, tempfile
    >>> home, drive = pathlib.Path(tempfile.mkdtemp()), tempfile.mkdtemp()
    >>> _ = (home / "notes.txt").write_text("spring tide at noon")
    >>> (result,) = dunechest.archive(home, dunechest.create_chest(drive, "red"))
    >>> result.archived_count, result.ok
    (1, True)
    """
    places = (chest,) if isinstance(chest, Chest | str | os.PathLike) else tuple(chest)
    targets = [get_chest(place) for place in places]
    cut_off: list[CutOffError] = []
    with standing():
        several = plan_several(get_libraries(libraries), targets, options)
        refuse_several(several)
        results = [result for _, result in archive_several(several, lambda: nullcontext(progress), cut_off)]
    if cut_off:
        raise cut_off[0]
    return tuple(results)
