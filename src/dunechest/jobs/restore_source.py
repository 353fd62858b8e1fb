"""What of a bag can be restored, be it ours and whole, ours and damaged, or somebody else's."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

from dunechest.bag.bag import list_bag, read_bag
from dunechest.chest import editions
from dunechest.chest.chest import BagEntry, now_text
from dunechest.chest.records import FORMAT, LibraryRecord, Origin, Totals
from dunechest.errors import BagUnusable, Refused, WordsOff
from dunechest.findings import Finding
from dunechest.jobs.landing import RestoreChoice
from dunechest.jobs.restore_contents import NotDone, RestoreFile, current_files, earlier_files
from dunechest.library.kinds import PLAIN_KIND
from dunechest.names import shown, why_unsafe


@dataclass(frozen=True, slots=True)
class Source:
    """What a bag has to give: its record, its files, how many were listed, and what is to be said of it."""

    record: LibraryRecord
    files: tuple[RestoreFile, ...]
    listed: int
    findings: tuple[Finding, ...] = ()


def source_of(entry: BagEntry, choice: RestoreChoice, not_done: list[NotDone]) -> Source:
    """Gather what of a bag can be restored.

    Parameters
    ----------
    entry : BagEntry
        The bag.
    choice : RestoreChoice
        Which edition.
    not_done : list of NotDone
        Takes what is listed and cannot be had.

    Raises
    ------
    WordsOff
        If there is no such edition.
    Refused
        If nothing can be restored of it.
    """
    if entry.library is None:
        if entry.state == "unfinished":
            raise Refused(
                f"The archive of {shown(entry.name)} was cut off before it was whole; there is nothing to restore yet."
            )
        if "newer version" in entry.why:
            raise Refused(f"{shown(entry.name)} cannot be restored by this version: {entry.why}")
        return _as_files(entry, choice, not_done)
    record = entry.library
    earlier = choice.edition is not None and choice.edition != record.edition
    if choice.edition is not None:
        record = editions.record_of(entry.folder, record, choice.edition)
    files = earlier_files(entry, record.edition, not_done) if earlier else current_files(entry, not_done)
    return Source(record, tuple(files), len(files) + len(not_done))


def _as_files(entry: BagEntry, choice: RestoreChoice, not_done: list[NotDone]) -> Source:
    """Take a bag that has no usable record of ours for what it is at least: files with digests (RFC 8493)."""
    if choice.edition is not None or choice.parts:
        raise WordsOff(
            f"{shown(entry.name)} has no record that tells its editions and parts; it can only be restored whole, "
            "as files."
        )
    own = (entry.folder / "dune").is_dir()
    try:
        bag = read_bag(entry.folder, assume=own)
    except BagUnusable as error:
        raise Refused(f"{shown(entry.name)} cannot be restored: {error}") from error
    lying = list_bag(entry.folder)
    strongest = sorted((m for m in bag.payload if m.algorithm in _ORDER), key=lambda m: _ORDER.index(m.algorithm))
    files, listed = [], 0
    prefix = "data/library/" if own and any(p.startswith("data/library/") for p in lying.files) else "data/"
    for path in sorted({path for manifest in strongest for path in manifest.entries}):
        listed += 1
        if path not in lying.files:
            why = lying.others.get(path)
            not_done.append(NotDone(path.removeprefix("data/"), f"it is {why}" if why else "it is missing", True))
            continue
        below = path.removeprefix(prefix) if path.startswith(prefix) else path.removeprefix("data/")
        if why_unsafe(below) is not None:
            not_done.append(NotDone(path, "its path is not used", True))
            continue
        digests = {m.algorithm: m.entries[path] for m in strongest if path in m.entries}
        best = next(name for name in _ORDER if name in digests)
        files.append(_file(path, below, lying.files[path], best, digests[best], entry.folder))
    if not strongest:
        raise Refused(
            f"{shown(entry.name)} has no manifest whose digests are known here, so its files cannot be proven. They "
            f"lie in {shown(str(entry.folder / 'data'))} and can be copied from there."
        )
    title = entry.name
    record = LibraryRecord(
        format=FORMAT,
        name=title,
        kind=PLAIN_KIND.name,
        kind_title=PLAIN_KIND.title,
        application="",
        shape="folder",
        origin=Origin("", "", "", ""),
        edition=1,
        archived=now_text(),
        archived_with="",
        totals=Totals(len(files), 0, len(files), 0, 0, 0, sum(file.size for file in files)),
    )
    why = entry.why or "Dune Chest did not make it"
    finding = Finding(
        "as-files",
        "warn",
        f"{shown(entry.name)} is restored as files, without links, empty folders, times and modes: {shown(why)}",
        f"Look whether the application opens them; references in them are not written anew. They lie in "
        f"{shown(str(entry.folder / 'data'))}, too, and can be copied from there.",
    )
    return Source(record, tuple(files), listed, (finding,))


#: Algorithms by which a file is believed, the strongest first.
_ORDER = ("sha512", "sha384", "sha256", "sha224", "sha1", "md5")


def _file(path: str, below: str, size: int, algorithm: str, digest: str, folder: Path) -> RestoreFile:
    try:
        mtime_ns = (folder / path).lstat().st_mtime_ns
    except OSError:
        mtime_ns = 0
    if algorithm == "sha512":
        return RestoreFile(path, "library/" + below, below, size, mtime_ns, 0o644, None, digest)
    return RestoreFile(path, "library/" + below, below, size, mtime_ns, 0o644, None, f"{algorithm}:{digest}")
