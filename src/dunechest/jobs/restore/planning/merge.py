"""Decide about each file where a library is merged into one that is there."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from pathlib import Path

import msgspec

from dunechest.chest.records import LibraryRecord
from dunechest.findings import Finding
from dunechest.jobs.restore.aside import aside_name
from dunechest.jobs.restore.descriptors import folder_named
from dunechest.library.join.files import joins_of
from dunechest.library.kinds.patterns import Patterns
from dunechest.library.kinds.schema import Kind
from dunechest.model.findings import finding_of
from dunechest.model.restore import Existing, RestoreFile, RestoreOptions
from dunechest.names import from_wire, slug
from dunechest.transfer.tasks import DigestTask
from dunechest.transfer.walk import as_expected, walk
from dunechest.transfer.workers import Workers
from dunechest.values import SetAside


class Found(msgspec.Struct):
    """What gathers while the files are looked at; see `Existing`."""

    writes: list[RestoreFile] = msgspec.field(default_factory=list)
    same: list[RestoreFile] = msgspec.field(default_factory=list)
    kept: list[RestoreFile] = msgspec.field(default_factory=list)
    replaced: list[RestoreFile] = msgspec.field(default_factory=list)
    beside: list[tuple[RestoreFile, str]] = msgspec.field(default_factory=list)
    merged: list[RestoreFile] = msgspec.field(default_factory=list)
    set_aside: list[SetAside] = msgspec.field(default_factory=list)
    findings: list[Finding] = msgspec.field(default_factory=list)
    paths: set[str] = msgspec.field(default_factory=set)

    def decided(self) -> Existing:
        """Return it as a value."""
        return Existing(
            "merge",
            tuple(self.writes),
            tuple(self.same),
            tuple(self.kept),
            tuple(self.replaced),
            tuple(self.beside),
            tuple(self.merged),
            tuple(self.set_aside),
            tuple(self.findings),
            paths=frozenset(self.paths),
        )


class Merge:
    """Decides about each file of a library that is merged into one that is there."""

    def __init__(
        self,
        place: Path,
        record: LibraryRecord,
        kind: Kind,
        files: Sequence[RestoreFile],
        options: RestoreOptions,
        label: str,
        tell: Callable[[int], None],
    ) -> None:
        self._place = place
        self._record = record
        self._kind = kind
        self._files = files
        self._options = options
        self._label = slug(label)
        self._tell = tell
        self._found = Found()
        self._listing = as_expected(walk(str(place)), (file.path for file in files), place)
        self._sizes = {entry.path: entry.size for entry in self._listing.files}
        self._times = {entry.path: entry.mtime_ns for entry in self._listing.files}
        self._gone: set[str] = set()
        self._others: set[str] = set()
        self._instead: dict[str, str] = {}
        self._taken = {folder.path for folder in self._listing.folders}
        self._taken |= {link.path for link in self._listing.links} | {other.path for other in self._listing.others}
        self._beside = aside_name(place.with_name(f"{place.name} half-made"), options.day)
        databases = {from_wire(database.path) for database in record.databases}
        self._databases = {file.own for file in files if kind.database_patterns.match(file.own)} | databases

    def decided(self) -> Existing:
        """Decide about every file."""
        found = self._found
        if self._record.shape == "file":
            self._sizes = {self._files[0].path: self._place.lstat().st_size} if self._files else {}
            self._times = {self._files[0].path: self._place.lstat().st_mtime_ns} if self._files else {}
        else:
            self._half_made()
        found.paths = set(self._sizes) - self._gone
        others = (
            {link.path for link in self._listing.links} | {other.path for other in self._listing.others}
        ) - self._gone
        folders = {folder.path for folder in self._listing.folders if folder.path} - self._gone
        candidates = []
        for file in self._files:
            blocked = self._blocked(file.path, others, folders)
            if blocked and self._options.on_conflict == "keep-mine":
                found.kept.append(file)
            elif blocked:
                # What is here stays what it is, and what comes gets another name: a whole folder the same one.
                found.beside.append((file, self._around(file.path, blocked)))
            elif file.path in found.paths:
                candidates.append(file)
            else:
                found.writes.append(file)
        alike = [file for file in candidates if self._sizes[file.path] == file.size]
        same = self._same(alike)
        gone = self._half_there(same)
        for file in candidates:
            if file.path in gone:
                found.writes.append(file)
            elif file.path in same:
                found.same.append(file)
            else:
                self._differs(file)
        return found.decided()

    def _blocked(self, path: str, others: set[str], folders: set[str]) -> str:
        """Return the path that is something else here than it is in the archive; empty if there is none."""
        pieces = path.split("/")
        for count in range(1, len(pieces)):
            above = "/".join(pieces[:count])
            if above in others or above in self._found.paths:
                return above
        return path if path in others or path in folders else ""

    def _around(self, path: str, blocked: str) -> str:
        """Return a path that leads around what has the name of a file, or of a folder above it."""
        other = self._instead.get(blocked)
        if other is None:
            other = self._instead[blocked] = self._other_name(blocked)
        return other + path[len(blocked) :]

    def _at(self, path: str) -> Path:
        return self._place if self._record.shape == "file" else self._place / path

    def _same(self, files: list[RestoreFile]) -> set[str]:
        """Read what has the same name and size, and return what has the same bytes."""
        total = sum(file.size for file in files)
        found = set()
        with Workers.for_job(len(files), total, (self._place,), self._tell) as workers:
            for file, outcome in workers.digest_each(files, lambda file: file.size, self._digest_task):
                if outcome.state == "ok" and outcome.digests == (file.proof[1],):
                    found.add(file.path)
        return found

    def _digest_task(self, file: RestoreFile) -> DigestTask:
        return DigestTask(os.fsencode(self._at(file.path)), file.size, (file.proof[0],))

    def _differs(self, file: RestoreFile) -> None:
        """Decide about a file that is there with other bytes."""
        found, prefer = self._found, self._options.on_conflict
        if self._kind.rebuildable.match(file.own):
            found.kept.append(file)  # the application makes it again from what is there
        elif joins_of(self._kind, file.own) is not None:
            found.merged.append(file)
        elif prefer == "keep-mine":
            found.kept.append(file)
        elif prefer == "keep-archived" or (prefer == "keep-newer" and file.mtime_ns > self._times[file.path]):
            found.replaced.append(file)
        elif prefer == "keep-newer":
            found.kept.append(file)
        elif file.own in self._databases:
            found.findings.append(finding_of("not-joinable", path=file.own, kind=self._kind.name))
        else:
            found.beside.append((file, self._other_name(file.path)))

    def _other_name(self, path: str) -> str:
        above, _, name = path.rpartition("/")
        stem, dot, ending = name.rpartition(".")
        if not stem or len(ending) > 12:
            stem, dot, ending = name, "", ""
        for count in range(1, 100_000):
            mark = f"from {self._label}" if count == 1 else f"from {self._label} {count}"
            other = f"{stem[:150]} ({mark}){dot}{ending}"
            other = f"{above}/{other}" if above else other
            if other not in self._sizes and other not in self._others and other not in self._taken:
                self._others.add(other)
                return other
        raise AssertionError("a hundred thousand files of one name")

    def _half_made(self) -> None:
        """Set aside what the application has begun and not finished, so that what is whole can take its place."""
        coming = {file.own for file in self._files}
        for path in sorted(self._kind.half_made.among(self._sizes)):
            if path not in coming:
                self._found.set_aside.append(SetAside(self._place / path, self._beside / path))
                self._gone.add(path)
        self._sizes = {path: size for path, size in self._sizes.items() if path not in self._gone}

    def _half_there(self, same: set[str]) -> set[str]:
        """Set aside folders that hold nothing but pieces of what comes whole from the chest; return their files.

        A title of which half is downloaded agrees with no descriptor, nor would it with both halves in it.
        """
        gone: set[str] = set()
        coming = {file.own: file for file in self._files}
        for spec in self._kind.agreements:
            for path in Patterns(spec.files).among(coming):
                folder = folder_named(self._place / path, spec.form, spec.folder)
                inside = [file for file in self._files if folder and file.own.startswith(folder + "/")]
                there = {p: s for p, s in self._sizes.items() if folder and p.startswith(folder + "/")}
                if not inside or not there:
                    continue
                # What has something of its own is a person's; what is intact is only added to.
                if set(there) <= {file.path for file in inside} and not set(there) <= same:
                    self._found.set_aside.append(SetAside(self._place / folder, self._beside / folder))
                    gone.update(there)
        self._found.paths -= gone
        return gone
