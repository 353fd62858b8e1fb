"""Try a kind file on a folder: what each of its lines matches there, and which match nothing."""

from __future__ import annotations

import os
from collections import Counter
from collections.abc import Iterator, Sequence
from pathlib import Path
from typing import ClassVar, NamedTuple

import msgspec

from dunechest.library.draft.databases import databases_in
from dunechest.library.draft.observing import Ground, ending, ground_of
from dunechest.library.in_use import lock_marks
from dunechest.library.kinds.load import read_kind
from dunechest.library.kinds.patterns import Patterns
from dunechest.library.kinds.schema import Kind, References
from dunechest.library.parts import list_parts
from dunechest.library.recognise import expand, sign_evidence
from dunechest.library.references.reading import Reference, ReferenceReport, read_references
from dunechest.library.roles import role_of
from dunechest.library.settings import setting_in
from dunechest.machine import processes
from dunechest.machine.folders import standard_folders
from dunechest.machine.identity import system_name
from dunechest.names import shown
from dunechest.transfer.walk import FileEntry
from dunechest.values import Value
from dunechest.words import number, size


class TriedLine(Value, msgspec.Struct, frozen=True):
    """A line of a kind file: its table, key and value, how much it matches in the folder, and what that is in words.

    `examples` are a few of the files, folders or names that it matches.
    """

    table: str
    key: str
    value: str
    match_count: int
    says: str
    examples: tuple[str, ...] = ()


class UnnamedFiles(NamedTuple):
    """Files that no line of a kind file names, by the ending of their names."""

    ending: str
    file_count: int
    size_bytes: int


class TriedKind(Value, msgspec.Struct, frozen=True):
    """What a kind file matches in a folder.

    Attributes
    ----------
    definition : Kind
        As the file says it.
    recognised : bool
        Whether the folder shows all of its signs.
    lines : tuple of TriedLine
        Every line that can match something, in the order of the file's tables.
    essential_bytes, rebuildable_bytes, must_not_leave_bytes : int
        Bytes of the folder's files by role.
    unnamed_files : tuple of tuples
        Files that no line names, by ending: ending, number of files, bytes. They are essential, and what they name outside is
        found where they are of an open format.
    folder : Path
        The folder.
    """

    _told: ClassVar[tuple[str, ...]] = (
        "kind",
        "folder",
        "recognised",
        "lines",
        "essential_bytes",
        "rebuildable_bytes",
        "must_not_leave_bytes",
        "unnamed_files",
    )
    _rows: ClassVar[str] = "lines"

    definition: Kind
    recognised: bool
    lines: tuple[TriedLine, ...]
    essential_bytes: int
    rebuildable_bytes: int
    must_not_leave_bytes: int
    unnamed_files: tuple[UnnamedFiles, ...]
    folder: Path

    @property
    def kind(self) -> str:
        """Its name."""
        return self.definition.name

    @property
    def idle(self) -> tuple[TriedLine, ...]:
        """The lines that match nothing."""
        return tuple(line for line in self.lines if not line.match_count)


def try_kind(
    kind: Kind | str | os.PathLike[str], folder: str | os.PathLike[str], *, home: Path | None = None
) -> TriedKind:
    """Report what each line of a kind file matches in a folder. Nothing is changed, and no placeholder is opened.

    Parameters
    ----------
    kind : Kind or path
        A kind, or a kind file.
    folder : path
        A library of that kind.
    home : Path, optional
        Whose home it is, for places and settings; one's own by default.

    Raises
    ------
    KindFileError
        If the kind file has a mistake.
    UsageError
        If there is no such folder.
    CutOffError
        If the folder cannot be listed.
    """
    tried = kind if isinstance(kind, Kind) else read_kind(Path(kind))
    ground = ground_of(folder, home)
    return _Trial(tried, ground, ground.home).result()


class _Trial:
    """One kind held against one folder; `named` gathers the files that some line names."""

    def __init__(self, kind: Kind, ground: Ground, home: Path) -> None:
        self._kind, self._ground, self._home = kind, ground, home
        self._named: set[str] = set()
        self._marks = lock_marks(ground.folder, kind, ground.files.values())
        self._databases = set(databases_in(ground))

    def result(self) -> TriedKind:
        signs = list(self._signs())
        references = list(self._references())
        lines = (
            *self._together(), *self._files(), *self._places(), *signs, *self._roles(), *self._in_use(), *references,
            *self._parts(), *self._others(), *self._outside(),
        )  # fmt: skip
        sums: Counter[str] = Counter()
        for path, file in self._ground.files.items():
            sums[role_of(self._kind, path, lock_mark=path in self._marks)] += file.size
        return TriedKind(
            self._kind,
            bool(signs) and all(line.match_count for line in signs),
            lines,
            sums["essential"],
            sums["rebuildable"],
            sums["must-not-leave"],
            self._unnamed(),
            self._ground.folder,
        )

    def _places(self) -> Iterator[TriedLine]:
        folders = standard_folders(self._home)
        for pattern in self._kind.places.get(system_name(), ()):
            here = [
                place for place in expand(pattern, folders) if os.path.realpath(place) == str(self._ground.folder)
            ]
            says = "this folder exists" if here else "this folder is elsewhere"
            yield TriedLine("places", system_name(), pattern, len(here), says)

    def _signs(self) -> Iterator[TriedLine]:
        for sign in self._kind.signs:
            found = sign_evidence(self._ground.folder, sign)
            value = sign.path or sign.name or ", ".join(sign.endings)
            yield TriedLine("signs", "path", value, int(found is not None), found or "not here")

    def _together(self) -> Iterator[TriedLine]:
        for group in self._kind.together:
            there = [name for name in group if (self._ground.folder / name).exists()]
            says = "all are there" if len(there) == len(group) else f"{len(there)} of {len(group)} are there"
            yield TriedLine("", "together", ", ".join(group), int(len(there) == len(group)), says, tuple(there))

    def _files(self) -> Iterator[TriedLine]:
        for pattern in self._kind.databases:
            matched = self._match(pattern)
            real = [path for path in matched if path in self._databases]
            says = number(len(real), "database")
            if len(real) < len(matched):
                says += f" among {number(len(matched), 'file')}"
            yield TriedLine("", "databases", pattern, len(real), says, tuple(matched[:3]))
        for end in self._kind.sidecars:
            matched = [path for path in self._ground.files if path.endswith(end)]
            self._named.update(matched)
            yield TriedLine("", "sidecars", end, len(matched), number(len(matched), "file"), tuple(matched[:3]))

    def _roles(self) -> Iterator[TriedLine]:
        roles = self._kind.roles
        for key, patterns in (
            ("rebuildable", roles.rebuildable),
            ("must-not-leave", roles.must_not_leave),
            ("half-made", roles.half_made),
            ("essential", roles.essential),
        ):
            for pattern in patterns:
                matched = self._match(pattern)
                total = sum(self._ground.files[path].size for path in matched)
                says = f"{number(len(matched), 'file')}, {size(total)}"
                yield TriedLine("roles", key, pattern, len(matched), says, tuple(matched[:3]))

    def _in_use(self) -> Iterator[TriedLine]:
        for pattern in self._kind.in_use.lock_marks:
            matched = self._match(pattern)
            sure = [path for path in matched if path in self._marks]
            says = number(len(matched), "file")
            if len(sure) < len(matched):
                says += f"; {len(matched) - len(sure)} of them archived, because they are more than a lock mark"
            yield TriedLine("in-use", "lock-marks", pattern, len(matched), says, tuple(matched[:3]))
        for name in self._kind.in_use.processes:
            running = list(processes.named((name,), self._home))
            yield TriedLine("in-use", "processes", name, len(running), "runs now" if running else "does not run now")
        for pattern in self._kind.in_use.databases:
            matched = self._match(pattern)
            yield TriedLine(
                "in-use", "databases", pattern, len(matched), number(len(matched), "file"), tuple(matched[:3])
            )

    def _references(self) -> Iterator[TriedLine]:
        for spec in self._kind.references:
            report = self._read((spec,))
            matched = spec.among(self._ground.files)
            self._named.update(matched)
            states: Counter[str] = Counter(reference.state for reference in report.references)
            words = (("inside", "inside"), ("outside", "outside"), ("missing", "to nothing"), ("away", "elsewhere"))
            says = f"{number(len(matched), 'file')}, {number(len(report.references), 'reference')}"
            told = ", ".join(f"{states[state]} {word}" for state, word in words if states[state])
            says += f": {told}" if told else ""
            says += "".join(f"; {shown(path)}: {why}" for path, why in report.unread[:1])
            value = ", ".join(
                (*spec.files, *(x for x in (f"{spec.table}.{spec.column}".strip("."),) if x), *spec.keys)
            )
            examples = tuple(dict.fromkeys(reference.text for reference in report.references))[:3]
            yield TriedLine("references", spec.form, value, len(report.references), says, examples)

    def _read(self, specs: Sequence[References]) -> ReferenceReport:
        kind = msgspec.structs.replace(self._kind, references=tuple(specs))
        bare = msgspec.structs.replace(self._ground.listing, links=())
        return read_references(kind, self._ground.folder, bare, self._home)

    def _parts(self) -> Iterator[TriedLine]:
        references: tuple[Reference, ...] = self._read(self._kind.references).references if self._kind.parts else ()
        for spec in self._kind.parts:
            kind = msgspec.structs.replace(self._kind, parts=(spec,))
            found = list_parts(kind, self._ground.folder, self._ground.listing, references, self._home)
            says = number(len(found), spec.what)
            titles = tuple(part.title for part in found[:3])
            yield TriedLine("parts", spec.form, ", ".join(spec.paths), len(found), says, titles)

    def _others(self) -> Iterator[TriedLine]:
        for table, items in (("joins", self._kind.joins), ("agreements", self._kind.agreements)):
            for item in items:
                matched = [path for pattern in item.files for path in self._match(pattern)]
                value = ", ".join(item.files)
                yield TriedLine(
                    table, item.form, value, len(matched), number(len(matched), "file"), tuple(matched[:3])
                )

    def _outside(self) -> Iterator[TriedLine]:
        folders = standard_folders(self._home)
        for setting in self._kind.settings:
            named = [value for path in expand(setting.file, folders) if (value := setting_in(path, setting.key))]
            says = f"it names {shown(named[0])}" if named else "no such setting on this computer"
            yield TriedLine("settings", setting.key, setting.file, len(named), says)
        for other in self._kind.elsewhere:
            there = [str(place) for place in expand(other.place, folders) if place.exists()]
            says = "it is there" if there else "not on this computer"
            yield TriedLine("elsewhere", other.what, other.place, len(there), says)

    def _match(self, pattern: str) -> list[str]:
        matched = Patterns((pattern,)).among(self._ground.files)
        self._named.update(matched)
        return matched

    def _unnamed(self) -> tuple[UnnamedFiles, ...]:
        by_ending: dict[str, list[FileEntry]] = {}
        for path, file in self._ground.files.items():
            if path not in self._named:
                by_ending.setdefault(ending(path), []).append(file)
        sums = [UnnamedFiles(end, len(files), sum(file.size for file in files)) for end, files in by_ending.items()]
        return tuple(sorted(sums, key=lambda row: (-row[2], row[0])))
