"""Files with holes: how much room they take on a drive, and what to say where that has none."""

from __future__ import annotations

import os
from collections.abc import Iterator, Sequence

from dunechest.findings import Finding
from dunechest.jobs.archive.planning.lineage import place_of
from dunechest.library.library import Library
from dunechest.model.archive import PlannedFile
from dunechest.model.findings import finding_of
from dunechest.model.study import Drive
from dunechest.transfer.holes import data_bytes
from dunechest.words import size


def data_of(library: Library, files: Sequence[PlannedFile], drive: Drive) -> dict[str, int]:
    """Return how many bytes files with holes take on a drive, by path below ``data/``; all of them where it has no holes."""
    if drive.probed is None or not drive.probed.holes:
        return {}
    block = max(512, drive.place.block)
    return {
        file.stored_as: data_bytes(os.fsencode(place_of(library, file)), file.entry.size, block)
        for file in files
        if file.entry.sparse
    }


def hole_findings(files: Sequence[PlannedFile], drive: Drive) -> Iterator[Finding]:
    """Say which files take more room on a drive without holes than here."""
    sparse = [file for file in files if file.entry.sparse]
    if sparse and drive.probed is not None and not drive.probed.holes:
        held = size(sum(file.entry.size for file in sparse))
        yield finding_of("holes", files=len(sparse), held=held, first=sparse[0].entry.path)
