"""Files from outside the library: whether the way to a place is safe, and whether the very same file is there."""

from __future__ import annotations

import os
from pathlib import Path

from dunechest.model.restore import RestoreFile
from dunechest.paths import is_link
from dunechest.transfer.below import link_between
from dunechest.transfer.digest_files import digest_files
from dunechest.transfer.tasks import DigestTask


def goes_astray(place: Path, top: Path, library: Path) -> bool:
    """Whether the way to a place goes through a link below the trusted folder, or into the library itself.

    A link of the library could lead anywhere, and what lies in the library came from it.
    """
    if place.is_relative_to(library) or Path(os.path.realpath(place.parent)).is_relative_to(
        os.path.realpath(library)
    ):
        return True
    return place.parent != top and link_between(top, place.parent) is not None


def same_bytes(file: RestoreFile, place: Path) -> bool:
    """Whether the very same file is there already."""
    try:
        if is_link(place) or not place.is_file() or place.stat().st_size != file.size:
            return False
    except OSError:
        return False
    (outcome,) = digest_files([DigestTask(os.fsencode(place), file.size, (file.proof[0],))], lambda count: None)
    return outcome.state == "ok" and outcome.digests == (file.proof[1],)
