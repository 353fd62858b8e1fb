"""One HTML page that shows what is safe, what is not, and what to do; made from documents alone."""

from __future__ import annotations

import os
from pathlib import Path

from dunechest.errors import UsageError
from dunechest.jobs.overview.growth import overview
from dunechest.model.overview import Overview
from dunechest.names import AnyPath, shown
from dunechest.report.page import MARK, make_page
from dunechest.transfer import safe

#: Bytes at the beginning of a page that say whether it is a report.
_HEAD = 4096


def write_report(path: AnyPath, told: Overview | None = None) -> Path:
    """Write a report: one HTML page that needs no other file, no network and no script.

    Parameters
    ----------
    path : path
        The page. A report that is there already is replaced, another file is not.
    told : Overview, optional
        What it shows; what is known now, if it is not given.

    Returns
    -------
    Path
        The page.

    Raises
    ------
    UsageError
        If something else lies there, or it cannot be written there.
    """
    place = Path(os.path.abspath(os.fspath(path) if not isinstance(path, bytes) else os.fsdecode(path)))
    _check(place)
    content = make_page(told if told is not None else overview())
    try:
        safe.write_file(place, content)
    except OSError as error:
        raise UsageError(f"The report cannot be written to {shown(str(place))}: {error.strerror}.") from error
    return place


def _check(place: Path) -> None:
    """Refuse to replace what is not a report."""
    if place.is_dir():
        raise UsageError(f"{shown(str(place))} is a folder. Name a file in it, such as {shown(str(place / NAME))}.")
    if not os.path.lexists(place):
        return
    try:
        fd = safe.open_regular(place)
        with os.fdopen(fd, "rb") as file:
            ours = MARK.encode() in file.read(_HEAD)
    except (OSError, ValueError):
        ours = False
    if not ours:
        raise UsageError(f"{shown(str(place))} is not a report and is not replaced. Name another file with --write.")


#: The page's name where no other is given.
NAME = "dune-chest-report.html"
