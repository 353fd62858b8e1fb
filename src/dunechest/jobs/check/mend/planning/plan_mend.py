"""Find what is damaged in a chest, and what it was: every file is read for that, and nothing is changed."""

from __future__ import annotations

import os
from collections.abc import Iterable, Iterator, Sequence

import msgspec

from dunechest.bag.manifest import parse_manifest
from dunechest.chest.bag_entry import BagEntry
from dunechest.chest.bag_records import BagRecords, stamp
from dunechest.chest.chest import Chest
from dunechest.chest.layout import DATA, EARLIER, MANIFEST, PENDING, TAG_MANIFEST, TAGS
from dunechest.errors import DuneChestError, UsageError
from dunechest.jobs.check.mend.planning.truth import Truth
from dunechest.jobs.copy.image import Held, held
from dunechest.jobs.known.chests import list_chests
from dunechest.jobs.known.named import AnyLibrary, get_chest, get_library, names_of
from dunechest.jobs.study.drive import examine
from dunechest.ledger import memory
from dunechest.library.library import Library
from dunechest.machine.drives import Limits
from dunechest.machine.volumes import identity
from dunechest.model.findings import finding_of
from dunechest.model.mend import FileToMend, MendPlan
from dunechest.names import AnyPath, shown, why_unsafe
from dunechest.paths import is_link
from dunechest.progress import Progress, Step, Tally, silent
from dunechest.transfer.system_files import is_of_system
from dunechest.transfer.tasks import DigestOutcome, DigestTask
from dunechest.transfer.workers import Workers
from dunechest.values import PathAndWhy

AnyHelper = Chest | Library | AnyPath


def plan_mend(
    chest: Chest | AnyPath,
    libraries: str | Iterable[str] = (),
    *,
    helpers: Iterable[Chest | AnyPath] | None = None,
    library: AnyLibrary | None = None,
    progress: Progress = silent,
) -> tuple[MendPlan, ...]:
    """Find out what is damaged in a chest and can be mended. Reads every file of it; changes nothing.

    Parameters
    ----------
    chest : Chest, path or label
        The chest with the damage.
    libraries : str or iterable of str
        Names of libraries in it; by default all of them.
    helpers : iterable of Chest, path or label, optional
        Chests with other copies, the preferred one first; by default all others that are connected.
    library : Library, path or name, optional
        The library itself, for files that are still as they were archived. Then `libraries` names just one.
    progress : Progress
        Told how far it is.

    Returns
    -------
    tuple of MendPlan
        One a library.

    Raises
    ------
    UsageError
        If there is no such library, or a helper is the chest itself.
    CutOffError
        If the drive went away.
    """
    chest = get_chest(chest)
    chest.look_again()
    names = names_of(libraries)
    entries = [chest.bag(name) for name in names] if names else list(chest.bags())
    entries = [entry for entry in entries if entry.state not in ("foreign", "unfinished")]
    source = get_library(library) if library is not None else None
    if source is not None and len(entries) != 1:
        raise UsageError("A library can mend only its own copy: name that one library of the chest, too.")
    others = tuple(_others(chest, helpers))
    limits = examine(chest).place.limits
    gone = [] if names else sorted(_gone(chest, entries))
    plans = [
        _plan_one(chest, entry, others, source, limits, progress)
        if entry.folder.is_dir() and not is_link(entry.folder)
        else _missing(chest, entry.name, others, in_the_way=True)
        for entry in entries
    ]
    return (*plans, *(_missing(chest, name, others) for name in gone))


def _others(chest: Chest, helpers: Iterable[Chest | AnyPath] | None) -> Iterator[Chest]:
    """Yield the chests that intact files are taken from."""
    if helpers is not None:
        for helper in helpers:
            other = get_chest(helper)
            if os.path.samefile(other.folder, chest.folder):
                raise UsageError(f"{shown(chest.label)} cannot mend itself. Name another chest, or the library.")
            yield other
        return
    for known in list_chests().chests:
        if known.connected and not os.path.samefile(known.path, chest.folder):
            try:
                yield Chest.open(known.path, finish=False)
            except DuneChestError:
                continue


def _gone(chest: Chest, entries: Sequence[BagEntry]) -> set[str]:
    return memory.libraries_of(chest.id, identity(chest.folder)).keys() - {entry.name for entry in chest.bags()}


def _missing(chest: Chest, name: str, others: tuple[Chest, ...], in_the_way: bool = False) -> MendPlan:
    """Say of a library whose folder is gone, or is no folder any more, how it comes back."""
    label = others[0].label if others else "OTHER"
    why = "it is not a folder" if in_the_way else "its folder is gone"
    if in_the_way:
        finding = finding_of(
            "library-gone/in-the-way", name=name, chest=chest.label, folder=str(chest.bag_folder(name)), label=label
        )
    else:
        finding = finding_of("library-gone", name=name, chest=chest.label, label=label)
    return MendPlan(chest, name, others, None, {}, (), (PathAndWhy(".", why),), (), 0, findings=(finding,))


class _File(msgspec.Struct, frozen=True):
    """What a file of a bag was when it was archived."""

    path: str
    size: int
    blake3: str
    sha512: str
    mtime_ns: int
    mode: int


def _plan_one(
    chest: Chest,
    entry: BagEntry,
    others: tuple[Chest, ...],
    library: Library | None,
    limits: Limits,
    progress: Progress,
) -> MendPlan:
    progress(Step("reading-records", 0, 0, 0, 0, entry.name))
    before = stamp(entry.folder)
    own = BagRecords(entry.folder)
    truth = Truth(own, _copies(entry.name, others), limits)
    hopeless = dict(truth.hopeless)
    files, unknown = _files(truth)
    hopeless |= unknown
    there = _there(own, files)
    bad = _damaged(own, files, there, entry.name, progress)
    # What lies under another spelling and is not intact may be a file of somebody else.
    other = {path: there[path] for path in there.keys() - {file.path for file, _ in bad} if there[path] != path}
    in_the_way = _in_the_way(own, [*truth.mended, *(file.path for file, _ in bad)])
    hopeless |= in_the_way
    wanted = []
    for file, why in bad:
        if file.path in in_the_way:
            continue
        if file.blake3:
            wanted.append(FileToMend(file.path, file.size, file.blake3, file.mtime_ns, file.mode, why))
        else:
            hopeless[file.path] = f"{why}; its digest is known only in part"
    return MendPlan(
        chest=chest,
        name=entry.name,
        helpers=others,
        library=library,
        records={path: content for path, content in truth.mended.items() if path not in in_the_way},
        wanted=tuple(wanted),
        unmendable_files=tuple(PathAndWhy(*item) for item in sorted(hopeless.items())),
        other_files=tuple(PathAndWhy(*item) for item in _left(own, truth, files, other.values())),
        checked_count=len(files) + len(truth.tags),
        renamed=tuple(sorted((name, path) for path, name in other.items() if not own.finds(path))),
        _stamp=before,
    )


def _copies(name: str, others: Iterable[Chest]) -> list[Held]:
    """Return the copies of a library in other chests whose records are intact."""
    found = []
    for other in others:
        for entry in other.bags():
            if entry.name != name or entry.state != "whole" or entry.records.faults():
                continue
            try:
                found.append(held(entry.records))
            except DuneChestError:
                continue
    return found


def _files(truth: Truth) -> tuple[list[_File], dict[str, str]]:
    """Return the payload and the kept earlier states as they were archived, and what cannot be told."""
    found: list[_File] = []
    unknown: dict[str, str] = {}
    listed = truth.files()
    manifest = _manifest(truth)
    for record in listed or ():
        path = DATA + record.path
        if why_unsafe(record.path) is not None:
            unknown[path] = "its recorded name must not be used"
            continue
        mode = (record.mode & 0o777) | 0o600
        found.append(_File(path, record.size, record.blake3, manifest.get(path, ""), record.mtime_ns, mode))
    if listed is None:
        found += [_File(path, -1, "", digest, 0, 0o644) for path, digest in manifest.items()]
    for path, tag in truth.tags.items():
        if path.startswith(EARLIER + "/") and why_unsafe(path) is None:
            found.append(_File(path, tag.size, tag.blake3, tag.sha512, 0, 0o644))
    return found, unknown


def _manifest(truth: Truth) -> dict[str, str]:
    content = truth.content(MANIFEST)
    if content is None:
        return {}
    parsed = parse_manifest(MANIFEST, "sha512", content.decode("utf-8", "replace"), payload=True, digest_length=128)
    return dict(parsed.entries)


def _there(own: BagRecords, files: Iterable[_File]) -> dict[str, str]:
    """Return the names under which files lie in the bag: mostly their own."""
    lying = own.lying.files
    return {
        file.path: name
        for file in files
        if (name := file.path if file.path in lying else own.other_spelling(file.path)) is not None
    }


def _damaged(
    own: BagRecords, files: Sequence[_File], there: dict[str, str], name: str, progress: Progress
) -> list[tuple[_File, str]]:
    """Read every file, and return those that are not what they should be, with what is wrong."""
    lying = own.lying.files
    bad = [(file, "it is missing") for file in files if file.path not in there]
    found = [file for file in files if file.path in there]
    sizes = {path: lying[place] for path, place in there.items()}
    total = sum(sizes.values())
    tally = Tally(progress, "checking", len(found), total, name)

    def task(file: _File) -> DigestTask:
        algorithm = "blake3" if file.blake3 else "sha512"
        return DigestTask(os.fsencode(own.at(there[file.path])), sizes[file.path], (algorithm,))

    with Workers.for_job(len(found), total, (own.bag,), tally) as workers:
        for done, (file, outcome) in enumerate(workers.digest_each(found, lambda f: sizes[f.path], task)):
            tally.files_done = done + 1
            if (why := _why(file, outcome)) is not None:
                bad.append((file, why))
    return sorted(bad, key=lambda item: item[0].path)


def _why(file: _File, outcome: DigestOutcome) -> str | None:
    if outcome.state == "ok":
        return None if outcome.digests[0].hex() == (file.blake3 or file.sha512) else "it is damaged"
    if outcome.state == "vanished":
        return "it is missing"
    return f"it cannot be read: {outcome.why}"


def _in_the_way(own: BagRecords, paths: Iterable[str]) -> dict[str, str]:
    """Return the paths that cannot be written, since something else is where they, or their folders, belong."""
    found: dict[str, str] = {}
    for path in paths:
        place = own.bag / path
        for above in reversed([place, *place.parents][: path.count("/") + 1]):
            if above == place:
                if above.is_dir() and not is_link(above) and os.listdir(above):
                    found[path] = "a folder with something in it has its name; move that folder away from the chest"
            elif is_link(above) or (os.path.lexists(above) and not above.is_dir()):
                where = above.relative_to(own.bag).as_posix()
                found[path] = f"{shown(where)} is not a folder; move it away from the chest"
                break
    return found


def _left(own: BagRecords, truth: Truth, files: Sequence[_File], ours: Iterable[str]) -> Iterator[tuple[str, str]]:
    """Yield what lies in the bag and is no part of the archive."""
    known = {file.path for file in files} | set(truth.tags) | set(truth.mended) | {TAG_MANIFEST, TAGS}
    known |= {*ours}
    for path in sorted(own.lying.files):
        if path not in known and not path.startswith(PENDING + "/") and not is_of_system(own.bag, path):
            yield path, "it is no part of the archive"
    for path, why in sorted(own.lying.others.items()):
        if path not in known:
            yield path, f"it is {why}, and no part of the archive"
