"""The page of a report: verdict, next steps, libraries by drives, figures with their tables."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import jinja2
from markupsafe import Markup

from dunechest.model.overview import LibraryHistory, Overview
from dunechest.names import shown
from dunechest.report import figures
from dunechest.words import NOT_COUNTED, STATE_WORDS, day, number, size

#: Says of a page that it is a report.
MARK = '<meta name="generator" content="Dune Chest report">'
#: So many editions of a library have a row in a table; of more, the latest and those that changed much.
_MOST = 60


def make_page(report: Overview) -> bytes:
    """Return a report as one HTML page.

    Parameters
    ----------
    report : Overview
        What it shows. Nothing in it is trusted: names are shown with what could act in a page made harmless.
    """
    environment = jinja2.Environment(
        loader=jinja2.PackageLoader("dunechest", "report"),
        autoescape=True,
        finalize=_harmless,
        undefined=jinja2.StrictUndefined,
        trim_blocks=True,
        lstrip_blocks=True,
    )
    environment.filters.update(size=size, local=_local, day=_day, count=number)
    environment.globals.update(mark=Markup(MARK), state_words=STATE_WORDS, not_counted=NOT_COUNTED, latest=_latest)
    known = [item for item in report.histories if item.editions]
    drawn = {
        "roles": figures.roles(known) if known else None,
        "timeline": figures.timeline(known) if known else None,
        "rooms": figures.rooms(report.drives) if any(drive.total_bytes for drive in report.drives) else None,
        "growth": figures.growth(report.drives) if any(drive.growths for drive in report.drives) else None,
    }
    svg = {name: Markup(figure.svg) for name, figure in drawn.items() if figure is not None}
    text = environment.get_template("page.html").render(report=report, status=report.status, known=known, svg=svg)
    return text.encode("utf-8", "replace")


def _harmless(value: Any) -> Any:
    if isinstance(value, Markup):
        return value
    return shown(str(value)) if value is not None else ""


def _local(moment: float | None) -> str:
    return day(moment) if moment else "-"


def _day(moment: float | None) -> str:
    return _local(moment)[:10]


def _latest(history: LibraryHistory) -> tuple[Sequence[Any], int]:
    """Return the editions that have a row, the latest first, and how many have none."""
    newest = list(reversed(history.editions))
    some = newest[:_MOST] + [edition for edition in newest[_MOST:] if edition.mass_change]
    return some, len(newest) - len(some)
