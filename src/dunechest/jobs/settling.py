"""Know a file again that an earlier restore has written anew: it differs from the chest's, and is the same."""

from __future__ import annotations

import os
import shutil
import tempfile
from collections.abc import Iterable
from dataclasses import replace
from pathlib import Path

from dunechest.jobs.meeting import Meeting
from dunechest.jobs.repointing import References, Repoint
from dunechest.jobs.restore_contents import RestoreFile
from dunechest.jobs.restore_reading import BagTree
from dunechest.library.kinds.schema import Kind
from dunechest.library.repoint.rewrite import NotRewritten, rewrite
from dunechest.transfer import safe

_MOST = 64 << 20


def settle(meeting: Meeting, kind: Kind, tree: BagTree, place: Path, references: References) -> References:
    """Take out of a meeting what differs only because it was written anew; return the other references."""
    by_source: dict[str, list[Repoint]] = {}
    for one in references.anew:
        if kind.references[one.spec].form != "sqlite":
            by_source.setdefault(one.source, []).append(one)
    settled: set[str] = set()
    candidates = [*(file for file, _ in meeting.beside), *meeting.replaced, *meeting.kept, *meeting.joined]
    for file in candidates:
        wanted = by_source.get(file.own)
        if wanted and file.size <= _MOST and _as_if(file, kind, tree.root, place, wanted):
            settled.add(file.own)
            meeting.anew_already.append(file)
    if not settled:
        return references
    meeting.beside = [(file, other) for file, other in meeting.beside if file.own not in settled]
    meeting.replaced, meeting.kept, meeting.joined = (
        [file for file in files if file.own not in settled]
        for files in (meeting.replaced, meeting.kept, meeting.joined)
    )
    rest = tuple(one for one in references.anew if one.source not in settled)
    return replace(references, anew=rest, stay=references.stay + len(references.anew) - len(rest))


def _as_if(file: RestoreFile, kind: Kind, root: Path, place: Path, wanted: Iterable[Repoint]) -> bool:
    """Write a copy of the chest's file anew, and compare it with the one here."""
    with tempfile.TemporaryDirectory(prefix="dunechest-") as scratch:
        copy = Path(scratch) / os.path.basename(file.own)
        try:
            shutil.copyfile(root / file.own, copy)
            by_spec: dict[int, dict[tuple[str, str], str]] = {}
            for one in wanted:
                by_spec.setdefault(one.spec, {})[one.spot, one.old] = one.new
            for spec, texts in by_spec.items():
                rewrite(copy, kind.references[spec], texts)
            return copy.read_bytes() == safe.read_bounded(place / file.path, _MOST)
        except (OSError, ValueError, NotRewritten):
            return False
