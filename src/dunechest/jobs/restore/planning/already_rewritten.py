"""Recognise files an earlier restore rewrote; only their references differ."""

from __future__ import annotations

import os
import shutil
import tempfile
from collections.abc import Iterable
from pathlib import Path

from msgspec.structs import replace

from dunechest.jobs.restore.planning.bag_tree import BagTree
from dunechest.library.kinds.schema import Kind
from dunechest.library.repoint.rewrite import NotRewrittenError, rewrite
from dunechest.model.restore import Existing, ReferencePlan, Repoint, RestoreFile
from dunechest.names import why_unsafe
from dunechest.transfer import safe

_MOST = 64 << 20


def without_rewritten(
    existing: Existing, kind: Kind, tree: BagTree, place: Path, references: ReferencePlan
) -> tuple[Existing, ReferencePlan]:
    """Take out of what exists the files that differ only because an earlier restore rewrote them.

    Returns
    -------
    pair of Existing and ReferencePlan
        What exists, and the references that are still to be updated.
    """
    by_source: dict[str, list[Repoint]] = {}
    for reference in references.updates:
        if kind.references[reference.spec].form != "sqlite":
            by_source.setdefault(reference.file, []).append(reference)
    candidates = [*(file for file, _ in existing.beside), *existing.replaced, *existing.kept, *existing.merged]
    rewritten = [
        file
        for file in candidates
        if (wanted := by_source.get(file.own))
        and why_unsafe(file.own) is None
        and file.size <= _MOST
        and _as_if(file, kind, tree.root, place, wanted)
    ]
    if not rewritten:
        return existing, references
    known = {file.own for file in rewritten}
    existing = replace(
        existing,
        beside=tuple((file, other) for file, other in existing.beside if file.own not in known),
        replaced=tuple(file for file in existing.replaced if file.own not in known),
        kept=tuple(file for file in existing.kept if file.own not in known),
        merged=tuple(file for file in existing.merged if file.own not in known),
        rewritten=tuple(rewritten),
    )
    rest = tuple(reference for reference in references.updates if reference.file not in known)
    stay = references.stay + len(references.updates) - len(rest)
    return existing, replace(references, updates=rest, stay=stay)


def _as_if(file: RestoreFile, kind: Kind, root: Path, place: Path, wanted: Iterable[Repoint]) -> bool:
    """Rewrite a copy of the chest's file, and compare it with the one here."""
    with tempfile.TemporaryDirectory(prefix="dunechest-") as scratch:
        copy = Path(scratch) / os.path.basename(file.own)
        try:
            shutil.copyfile(root / file.own, copy)
            by_spec: dict[int, dict[tuple[str, str], str]] = {}
            for update in wanted:
                by_spec.setdefault(update.spec, {})[update.spot, update.old] = update.new
            for spec, texts in by_spec.items():
                rewrite(copy, kind.references[spec], texts)
            return copy.read_bytes() == safe.read_bounded(place / file.path, _MOST)
        except (OSError, ValueError, NotRewrittenError):
            return False
