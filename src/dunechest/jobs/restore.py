"""Plan a restore: where a library goes, what is in the way, what will be written anew, and whether it may be done.

A chest is foreign input. Every path in it is looked at before it is used, nothing is
read or written through a link, and what cannot be trusted is reported instead.
"""

from __future__ import annotations

import functools
import hashlib
import os
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path

import msgspec

from dunechest.chest.bag_entry import BagEntry
from dunechest.chest.bag_records import stamp
from dunechest.chest.chest import Chest
from dunechest.chest.layout import LIBRARY, LIBRARY_FILES, OUTSIDE_FILES, TAG_MANIFEST
from dunechest.chest.records import LibraryRecord, StrayRecord
from dunechest.chest.tag_lists import RecordFault
from dunechest.errors import DuneChestError, RecordDamaged, WordsOff
from dunechest.findings import Finding, weightiest_first
from dunechest.jobs import restore_findings
from dunechest.jobs.landing import Landing, RestoreChoice, land, no_place, today
from dunechest.jobs.meeting import Meeting, meet
from dunechest.jobs.proof import Then, then_of
from dunechest.jobs.protected import why_archive
from dunechest.jobs.repointing import References, SettingChange, moves_of, plan_references, plan_settings
from dunechest.jobs.restore_contents import NotDone, Paths, RestoreFile, RestoreStray
from dunechest.jobs.restore_reading import BagTree, bag_tree
from dunechest.jobs.restore_source import Source, source_of
from dunechest.jobs.settling import settle
from dunechest.jobs.stray_places import place_strays
from dunechest.jobs.study.room import nearest
from dunechest.ledger.folder import state_folder
from dunechest.library.kinds.load import load_kinds
from dunechest.library.kinds.schema import PLAIN_KIND, Kind
from dunechest.library.parts import Part, parts_named
from dunechest.machine.drives import Filesystem, filesystem
from dunechest.machine.sensitive import why_sensitive
from dunechest.names import from_wire, parents, quoted, shown
from dunechest.progress import Progress, Step, silent
from dunechest.transfer import safe


@dataclass(frozen=True, slots=True)
class RestorePlan:
    """What restoring one library means.

    `place` is the folder (or for a single file: the file) that will be there
    afterwards; None if no place is known. `files` are all that belong there then, `meeting` says what becomes of
    each and of what is in the way. `folders` are (path, time in ns, mode),
    deepest last; `links` are (path, target, time in ns). `need` and `free` in bytes.
    `listed` counts the files that the records list, whether they are there or not;
    `renamed` maps an archived path to the one it gets here, where these differ. `references` and `settings` are
    what will be written anew; `then` is what the library was, to be compared afterwards. `damage` is what is not proven
    of the archive's records; `stamp` changes if the archive is changed meanwhile.
    """

    chest: Chest
    bag: str
    record: LibraryRecord
    kind: Kind
    choice: RestoreChoice
    landing: Landing
    files: tuple[RestoreFile, ...]
    strays: tuple[RestoreStray, ...]
    folders: tuple[tuple[str, int, int], ...]
    links: tuple[tuple[str, str, int], ...]
    hard_links: tuple[tuple[str, ...], ...]
    not_done: tuple[NotDone, ...]
    renamed: tuple[tuple[str, str], ...]
    listed: int
    need: int
    free: int
    findings: tuple[Finding, ...]
    whole_sync: bool
    meeting: Meeting
    then: Then
    parts: tuple[Part, ...] = ()
    references: References = field(default_factory=References)
    settings: tuple[SettingChange, ...] = ()
    settings_left: tuple[SettingChange, ...] = ()
    device: int = 0
    stamp: tuple[object, ...] = ()
    damage: tuple[RecordFault, ...] = ()

    @property
    def place(self) -> Path | None:
        """Where the library goes."""
        return self.landing.place

    @property
    def bytes(self) -> int:
        """Bytes of the files to restore."""
        return sum(file.size for file in self.files) + sum(stray.file.size for stray in self.strays)

    @property
    def part_names(self) -> tuple[str, ...]:
        """Names and titles of the parts that are restored; empty for the whole library."""
        return tuple({name: None for part in self.parts for name in (part.name, part.title)})


def plan_restore(
    chest: Chest, library: str, choice: RestoreChoice | None = None, *, progress: Progress = silent
) -> RestorePlan:
    """Plan to restore a library. Changes nothing.

    Parameters
    ----------
    chest : Chest
        Where it is.
    library : str
        Its name in the chest.
    choice : RestoreChoice, optional
        Whose home or which folder it goes into, which edition and parts, what becomes of what is in the way.
    progress : Progress
        Told how far the comparing of what is there already is.

    Returns
    -------
    RestorePlan

    Raises
    ------
    WordsOff
        If there is no such library, part or home, or `home` and `into` are both given.
    Refused
        If its records are too damaged to restore from.
    """
    choice = choice if choice is not None else RestoreChoice()
    if not choice.day:
        choice = msgspec.structs.replace(choice, day=today())
    if choice.home is not None and choice.into is not None:
        raise WordsOff("--home and --into exclude each other: say whose home, or exactly which folder.")
    if choice.home is not None and not os.path.isdir(choice.home):
        raise WordsOff(f"There is no folder {shown(choice.home)} to be the home. Nothing was changed.")
    folder = chest.bag(library).folder
    for again in range(_TIMES):
        seen = stamp(folder)
        try:
            plan = _plan(chest, chest.bag(library), choice, progress, seen)
            if not (plan.damage or any(one.fault for one in plan.not_done)) or stamp(folder) == seen:
                break
        except RecordDamaged:
            if stamp(folder) == seen or again + 1 == _TIMES:
                raise
        time.sleep(0.1 * again)  # an archive committed meanwhile: what looks damaged is of before and after
    return plan


#: So many times an archive is read again that is changed while it is read.
_TIMES = 5


def _plan(
    chest: Chest, entry: BagEntry, choice: RestoreChoice, progress: Progress, seen: tuple[object, ...]
) -> RestorePlan:
    not_done: list[NotDone] = []
    source = source_of(entry, choice, not_done)
    record = source.record
    kind = load_kinds(state_folder()).get(record.kind, PLAIN_KIND)
    landing = land(record, kind, choice)
    place = landing.place
    near = nearest(place) if place is not None else None
    here = filesystem(near) if near is not None else None
    paths = Paths(record, here, not_done)
    folders = paths.folders()
    ready = [paths.file(file) for file in source.files if not file.stored.startswith(OUTSIDE_FILES)]
    loose = [file for file in source.files if file.stored.startswith(OUTSIDE_FILES)]
    with bag_tree(entry.folder, record, kind, ready, choice.home_folder) as tree:
        parts = _parts(tree, record, choice, entry)
        links = paths.links(choice.outward_links if choice.outward_links is not None else _made_here(chest, entry))
        if choice.parts:
            ready, loose, folders, links = _only(parts, source, ready, loose, folders, links)
        return _with_place(
            chest, entry, choice, source, kind, landing, here, paths, tree,
            ready, loose, folders, links, parts, not_done, progress, seen,
        )  # fmt: skip


def _with_place(
    chest: Chest,
    entry: BagEntry,
    choice: RestoreChoice,
    source: Source,
    kind: Kind,
    landing: Landing,
    here: Filesystem | None,
    paths: Paths,
    tree: BagTree,
    ready: Sequence[RestoreFile],
    loose: Sequence[RestoreFile],
    folders: tuple[tuple[str, int, int], ...],
    links: tuple[tuple[str, str, int], ...],
    parts: tuple[Part, ...],
    not_done: list[NotDone],
    progress: Progress,
    seen: tuple[object, ...],
) -> RestorePlan:
    record, place = source.record, landing.place
    compared, total = 0, sum(file.size for file in ready)

    def tell(count: int) -> None:
        nonlocal compared
        compared += count
        progress(Step("comparing", 0, len(ready), min(compared, total), total, entry.name))

    meeting, references = Meeting("free", list(ready)), References()
    made_here = functools.cache(lambda: _made_here(chest, entry))
    strays: tuple[RestoreStray, ...] = ()
    settings: list[SettingChange] = []
    settings_left: list[SettingChange] = []
    if place is not None:
        strays = place_strays(record, loose, place, choice, own_places=bool(record.strays) and made_here())
        meeting = meet(place, record, kind, ready, choice, chest.label, tell)
        inside = [*(file.own for file in ready), *(from_wire(folder.path) for folder in record.folders)]
        moves = moves_of(record, place, choice, paths.renamed, [*inside, *meeting.existing], strays)
        if choice.repoint and record.shape == "folder":
            names = [*(file.path for file in ready), *meeting.existing]
            left = {file.own for file in meeting.kept}
            coming = [file.own for file in ready if file.own not in left]
            references = plan_references(kind, tree, coming, moves, names, _left(record))
            if meeting.mode == "join":
                references = settle(meeting, kind, tree, place, references)
        settings, settings_left = plan_settings(kind, place, choice, record)
    written = (*meeting.writes, *meeting.replaced, *(file for file, _ in meeting.beside), *meeting.joined)
    need = need_of((*written, *(s.file for s in strays if not s.there)), folders, here)
    plan = RestorePlan(
        chest=chest,
        bag=entry.name,
        record=record,
        kind=kind,
        choice=choice,
        landing=landing,
        files=tuple(ready),
        strays=strays,
        folders=folders,
        links=links,
        hard_links=paths.hard_links(),
        not_done=tuple(not_done),
        renamed=tuple(sorted(paths.renamed.items())),
        listed=source.listed if not choice.parts else len(ready) + len(loose),
        need=need,
        free=here.free if here is not None else 0,
        findings=(),
        whole_sync=here.whole_sync if here is not None else False,
        meeting=meeting,
        then=then_of(
            record,
            kind,
            tree,
            [file.own for file in ready],
            parts,
            [one.path.removeprefix(LIBRARY_FILES) for one in not_done],
        ),
        parts=parts if choice.parts or record.partial else (),
        references=references,
        settings=tuple(settings),
        settings_left=tuple(settings_left),
        device=os.stat(nearest(place)).st_dev if place is not None else 0,
        damage=source.damage,
        stamp=seen,
    )
    findings = list(source.findings)
    if place is None:
        findings.append(no_place(record))
    else:
        findings += _not_there(record, kind, landing, made_here)
    findings += restore_findings.findings_of(plan)
    return replace(plan, findings=weightiest_first(findings))


def _not_there(
    record: LibraryRecord, kind: Kind, landing: Landing, made_here: Callable[[], bool]
) -> Iterator[Finding]:
    """Stop where a library must not go: into an archive, or, because a stranger's record says so, where files act."""
    assert landing.place is not None
    if why := why_archive(landing.place):
        yield Finding(
            "inside-archive",
            "stop",
            f"{shown(str(landing.place))} is no place for it: {shown(why)}.",
            "An archive must not be changed. Restore elsewhere with --into FOLDER.",
        )
    origin = f"{{{record.origin.standard}}}/{from_wire(record.origin.relative)}"
    known = any(origin in places for places in kind.places.values())
    if landing.how != "standard" or known:
        return
    relative = from_wire(record.origin.relative)
    why = why_sensitive(relative, standard=record.origin.standard, file=record.shape == "file")
    if why and not made_here():
        yield Finding(
            "sensitive-place",
            "stop",
            f"The archive says that it belongs in {shown(str(landing.place))}; {why}. It was not made on this computer.",
            f"If you trust it and want it there, name the place yourself: --into {quoted(str(landing.place))}",
        )


def _parts(tree: BagTree, record: LibraryRecord, choice: RestoreChoice, entry: BagEntry) -> tuple[Part, ...]:
    """Return the parts that are restored: those asked for, or those that the archive holds, if it is not whole."""
    if choice.parts:
        try:
            return tuple(parts_named(tree.parts, choice.parts).values())
        except KeyError as error:
            known = ", ".join(shown(part.title) for part in tree.parts) or "none"
            raise WordsOff(
                f"{shown(entry.name)} has no part {shown(str(error.args[0]))!r}, or several. Its parts: {known}."
            ) from None
    wanted = set(record.partial)
    return tuple(part for part in tree.parts if part.name in wanted)


def _only(
    parts: Sequence[Part],
    source: Source,
    ready: list[RestoreFile],
    loose: list[RestoreFile],
    folders: tuple[tuple[str, int, int], ...],
    links: tuple[tuple[str, str, int], ...],
) -> tuple[list[RestoreFile], list[RestoreFile], tuple[tuple[str, int, int], ...], tuple[tuple[str, str, int], ...]]:
    """Leave only what belongs to some parts: their files, what they need, their folders, and strays they refer to."""
    wanted = {path for part in parts for path in (*part.files, *part.needs)}
    tops = tuple(part.folder + "/" for part in parts if part.folder)
    files = [file for file in ready if file.own in wanted]
    above = {""}
    for path in (*(file.path for file in files), *(top + "x" for top in tops)):
        above.update(parents(path))
    kept_folders = tuple(f for f in folders if f[0] in above or f"{f[0]}/".startswith(tops or ("\0",)))
    kept_links = tuple(link for link in links if link[0].startswith(tops or ("\0",)))
    led_to = {stray.stored for stray in source.record.strays if _of_part(stray, parts)}
    return files, [file for file in loose if file.stored in led_to], kept_folders, kept_links


def _of_part(stray: StrayRecord, parts: Sequence[Part]) -> bool:
    """Whether a stray is referred to by a part's own file, or by what an index that all share says of the part."""
    # On the machine it was archived on it may lie there still, and be known by its place.
    if any(from_wire(stray.path) in part.strays for part in parts):
        return True
    own = {path for part in parts for path in part.files}
    said = {text for part in parts for text in part.elsewhere}
    return any(from_wire(one.source) in own or from_wire(one.text) in said for one in stray.references)


def _left(record: LibraryRecord) -> Mapping[str, str]:
    """Return old full paths of what was not archived, and why."""
    base = from_wire(record.origin.path)
    left = {f"{base}/{from_wire(one.path)}": one.why for one in record.left_out}
    return left | {from_wire(one.path): one.why for one in record.strays_left}


def _made_here(chest: Chest, entry: BagEntry) -> bool:
    """Whether this machine made the bag and it is unaltered since, so that its records are its own."""
    from dunechest.ledger.ledger import open_ledger

    if entry.library is None:
        return False
    own = entry.records
    if own.lists.faults or own.fault_of(LIBRARY) is not None:
        return False
    try:
        top = hashlib.sha512(safe.read_bounded(own.at(TAG_MANIFEST), 1 << 30)).hexdigest()
        with open_ledger() as ledger:
            return ledger.archived_here(chest.id, entry.name, top)
    except (OSError, ValueError, DuneChestError):
        return False


def need_of(files: Sequence[RestoreFile], folders: Sequence[object], here: Filesystem | None) -> int:
    """Count the bytes that a drive gives up for files and folders: whole blocks, and its own notes of them."""
    block = max(512, here.block) if here is not None else 4096
    total = sum(-(-file.size // block) * block + 512 for file in files) + (len(folders) + 4) * block
    return total + total // 200
