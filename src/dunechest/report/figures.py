"""The figures of a report, as SVG that follows the page's colours.

Each can be read without colour: by words at the marks, hatches, shapes and dashes. Text stays text, so that it can be
searched, copied and read aloud.
"""

from __future__ import annotations

import datetime
import io
import re
import warnings
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from html import escape
from typing import TYPE_CHECKING, Any

import matplotlib as mpl
import msgspec
from matplotlib.dates import AutoDateLocator, ConciseDateFormatter, date2num
from matplotlib.figure import Figure

from dunechest.model.overview import DriveRoom, LibraryHistory
from dunechest.names import shown
from dunechest.words import day as moment_day
from dunechest.words import number, size

if TYPE_CHECKING:
    from matplotlib.axes import Axes

#: Stand-ins: each is replaced by a colour of the page, which is another one in the dark.
_INK, _FAINT, _FIRST, _SECOND, _THIRD, _ALARM, _PAPER = (f"#0{n}fe0{n}" for n in range(1, 8))
_COLOURS = {
    _INK: "var(--ink)",
    _FAINT: "var(--faint)",
    _FIRST: "var(--first)",
    _SECOND: "var(--second)",
    _THIRD: "var(--third)",
    _ALARM: "var(--alarm)",
    _PAPER: "var(--paper)",
}
#: Inches; 396 units of the page, which a telephone shows at about their size.
_WIDE = 5.5
_TEXT = 12.0
_ROLES = {"essential": (_FIRST, ""), "rebuildable": (_SECOND, "////"), "other": (_THIRD, "....")}
#: Lines of drives: dash and mark.
_DASHES: tuple[tuple[Any, str], ...] = (
    ("-", "o"), ((0, (6, 2)), "s"), ((0, (1, 1.5)), "^"), ((0, (6, 2, 1, 2)), "D"), ((0, (3, 1)), "v"),
)  # fmt: skip
#: Bytes from which a unit is used on an axis.
_UNITS = ((10**12, "TB"), (10**9, "GB"), (10**6, "MB"), (10**3, "kB"))
_STYLE: Any = {
    "svg.fonttype": "none",
    "font.size": _TEXT,
    "font.family": "DejaVu Sans",
    "text.parse_math": False,
    "text.color": _INK,
    "axes.edgecolor": _FAINT,
    "axes.labelcolor": _INK,
    "axes.facecolor": "none",
    "xtick.color": _INK,
    "ytick.color": _INK,
    "xtick.labelsize": _TEXT - 1,
    "ytick.labelsize": _TEXT,
    "hatch.color": _PAPER,
    "hatch.linewidth": 1.2,
    "axes.spines.top": False,
    "axes.spines.right": False,
    "axes.spines.left": False,
    "axes.formatter.useoffset": False,
}


class FigureText(msgspec.Struct, frozen=True):
    """The picture as SVG, and in words what it shows, for those who do not see it."""

    svg: str
    words: str


def roles(histories: Sequence[LibraryHistory]) -> FigureText:
    """Draw a bar a library: its bytes by role."""
    largest = max((sum(role.size_bytes for role in item.roles) for item in histories), default=0)
    with _axes(len(histories) * 0.62 + 0.25) as (figure, axes):
        words = []
        for place, item in enumerate(histories):
            left = 0
            for role in item.roles:
                fill, hatch = _ROLES.get(role.role, _ROLES["other"])
                axes.barh(
                    place, role.size_bytes, 0.34, left, color=fill, hatch=hatch, edgecolor=_PAPER, linewidth=0.5
                )
                left += role.size_bytes
            told = ", ".join(f"{role.role} {size(role.size_bytes)}" for role in item.roles) or "nothing"
            _above(axes, f"{_short(item.name, 24)}: {told}", place)
            words.append(f"{item.name}: {told}")
        axes.set_ylim(len(histories) - 0.5, -0.8)
        axes.set_xlim(0, max(largest, 1) * 1.02)
        axes.set_axis_off()
        return _drawn(figure, "roles", "Bars of bytes by role. " + "; ".join(words) + ".")


def timeline(histories: Sequence[LibraryHistory]) -> FigureText:
    """Draw a row a library: a mark an edition, another one where much was gone or changed."""
    with _axes(len(histories) * 0.62 + 0.55) as (figure, axes):
        marked = []
        for place, item in enumerate(histories):
            calm = [_day(e.archived_at) for e in item.editions if not e.mass_change]
            wild = [(_day(e.archived_at), e) for e in item.editions if e.mass_change]
            axes.axhline(place, color=_FAINT, linewidth=0.8, zorder=0)
            axes.plot([x for x in calm if x], [place] * len([x for x in calm if x]), "o", color=_FIRST, markersize=6)
            for x, edition in wild:
                if x is None:
                    continue
                axes.plot([x], [place], "D", color=_ALARM, markersize=9)
                gone = edition.dropped_count + edition.changed_count
                marked.append(f"{item.name}, edition {edition.edition}")
                axes.annotate(
                    f"{gone:,}", (x, place), (0, -7), textcoords="offset points", ha="center", va="top",
                    fontsize=_TEXT - 2, color=_ALARM, weight="bold",
                )  # fmt: skip
            axes.annotate(
                f"{_short(item.name, 30)}: {number(len(item.editions), 'edition')}", (0, place), (0, 7), va="bottom",
                xycoords=("axes fraction", "data"), textcoords="offset points", fontsize=_TEXT - 1,
            )  # fmt: skip
        axes.set_ylim(len(histories) - 0.4, -0.8)
        axes.set_yticks([])
        _dates(axes, [_day(e.archived_at) for item in histories for e in item.editions])
        told = "; ".join(f"{item.name}: {number(len(item.editions), 'edition')}" for item in histories)
        alarm = f" Many files were gone or changed in: {', '.join(marked)}." if marked else ""
        return _drawn(figure, "timeline", f"When editions were archived. {told}.{alarm}")


def rooms(drives: Sequence[DriveRoom]) -> FigureText:
    """Draw a gauge a drive: how much of it is used."""
    known = [drive for drive in drives if drive.total_bytes and drive.free_bytes is not None]
    with _axes(len(known) * 0.66 + 0.2) as (figure, axes):
        words = []
        for place, drive in enumerate(known):
            total, free = drive.total_bytes or 1, min(drive.free_bytes or 0, drive.total_bytes or 1)
            part = (total - free) / total
            tight = part > 0.9
            axes.barh(place, 1, 0.34, color="none", edgecolor=_INK, linewidth=0.9)
            axes.barh(
                place,
                part,
                0.34,
                color=_ALARM if tight else _FIRST,
                hatch="xxxx" if tight else "",
                edgecolor=_PAPER,
                linewidth=0,
            )
            told = f"{part:.0%} used, {size(free)} of {size(total)} free"
            _above(axes, f"{_short(drive.label, 20)}: {told}", place)
            words.append(f"{drive.label}: {told}")
        axes.set_ylim(len(known) - 0.5, -0.85)
        axes.set_xlim(-0.005, 1.01)
        axes.set_axis_off()
        return _drawn(figure, "rooms", "How full each drive is. " + "; ".join(words) + ".")


def growth(drives: Sequence[DriveRoom]) -> FigureText:
    """Draw a line a drive: the bytes that archives brought to it, and at its end its name."""
    with _axes(2.6) as (figure, axes):
        words, days, ends = [], [], []
        known = [drive for drive in drives if drive.growths]
        for place, drive in enumerate(known):
            points = [(day, item.size_bytes) for item in drive.growths if (day := _day(item.archived_at)) is not None]
            if not points:
                continue
            dash, mark = _DASHES[place % len(_DASHES)]
            colour = (_FIRST, _SECOND, _THIRD)[place % 3]
            axes.plot(*zip(*points, strict=True), linestyle=dash, color=colour, drawstyle="steps-post", linewidth=1.8)
            axes.plot(*points[-1], mark, color=colour, markersize=7)
            days += [point[0] for point in points]
            full = f", full {moment_day(drive.full_at)[:7]}" if drive.full_at else ""
            ends.append((points[-1], f"{_short(drive.label, 12)}{full}"))
            words.append(f"{drive.label}: {size(points[-1][1])} archived{full}")
        most = max((point[1] for point, _ in ends), default=1)
        unit, name = next(((u, n) for u, n in _UNITS if most >= u), (1, "bytes"))
        axes.yaxis.set_major_formatter(
            lambda value, _: f"{value / unit:,.0f}" if value >= unit * 10 or not value else f"{value / unit:.1f}"
        )
        axes.set_title(f"archived, in {name}", loc="left", fontsize=_TEXT - 1)
        axes.grid(axis="y", color=_FAINT, linewidth=0.6)
        axes.set_axisbelow(True)
        axes.tick_params(length=0)
        axes.set_ylim(0, most * 1.12)
        _dates(axes, days, right=0.75 if any(drive.full_at for drive in known) else 0.3)
        _labels(axes, ends, most)
        return _drawn(figure, "growth", "Bytes that archives brought to each drive. " + "; ".join(words) + ".")


def _above(axes: Axes, text: str, place: int) -> None:
    """Write a line above a bar."""
    axes.annotate(text, (0, place), (0, 11), textcoords="offset points", va="bottom", fontsize=_TEXT - 1)


def _labels(axes: Axes, ends: Iterable[tuple[tuple[float, int], str]], most: int) -> None:
    """Write the names of lines beside their ends, none on another."""
    last = -float(most)
    for (day, value), label in sorted(ends, key=lambda item: item[0][1]):
        height = max(value, last + most * 0.09)
        axes.annotate(label, (day, height), (7, 0), textcoords="offset points", va="center", fontsize=_TEXT - 1)
        last = height


@contextmanager
def _axes(height: float) -> Iterator[tuple[Figure, Axes]]:
    """Give a figure of some inches with one drawing area, in our style; it is drawn before the block ends."""
    with mpl.rc_context(_STYLE):
        figure = Figure(figsize=(_WIDE, height))
        figure.set_layout_engine("constrained", w_pad=0.02, h_pad=0.03)
        figure.patch.set_alpha(0.0)
        yield figure, figure.add_subplot()


def _dates(axes: Axes, days: Iterable[float | None], right: float = 0.03) -> None:
    """Let an axis show all days, and write them as people do."""
    known = [day for day in days if day is not None]
    first, last = (min(known), max(known)) if known else (0.0, 1.0)
    if last - first < 2:  # a day before and after, so that there is something to write dates at
        first, last = first - 1, last + 1
    span = last - first
    axes.set_xlim(first - span * 0.03, last + span * right)
    locator = AutoDateLocator(minticks=2, maxticks=4)
    axes.xaxis.set_major_locator(locator)
    # Whole dates at every mark: what year a day is of must not have to be looked for.
    formats = ["%Y", "%b %Y", "%d %b %Y", "%d %b %H:%M", "%d %b %H:%M", "%H:%M:%S"]
    axes.xaxis.set_major_formatter(
        ConciseDateFormatter(locator, formats=formats, zero_formats=formats, show_offset=False)
    )


def _day(moment: float | None) -> float | None:
    """Return a moment as matplotlib counts days, in local time; None for one that no calendar has."""
    if moment is None:
        return None
    try:
        told = datetime.datetime.fromtimestamp(moment, datetime.UTC).astimezone().replace(tzinfo=None)
    except (ValueError, OverflowError, OSError):
        return None
    return float(date2num(told)) if 1970 <= told.year <= 2200 else None


def _short(name: str, most: int) -> str:
    """Return a name that fits; the table beneath has it whole."""
    name = shown(name)
    return name if len(name) <= most else f"{name[: most - 1]}…"


def _drawn(figure: Figure, name: str, words: str) -> FigureText:
    """Return a figure as a part of a page."""
    buffer = io.StringIO()
    with warnings.catch_warnings(), mpl.rc_context({"svg.hashsalt": name}):
        warnings.filterwarnings("ignore", message="Glyph .* missing")  # the reader's own fonts show the text
        nothing = {"Creator": None, "Date": None, "Format": None, "Type": None}
        figure.savefig(buffer, format="svg", metadata=nothing)
    text = buffer.getvalue()
    _, _, height_wide, inner = re.split(r'(<svg [^>]*viewBox="([^"]*)"[^>]*>)', text, maxsplit=1)
    inner = re.sub(r"<style[^>]*>.*?</style>", "", inner, flags=re.DOTALL)  # it would be the page's, not the figure's
    for stand_in, colour in _COLOURS.items():
        inner = inner.replace(stand_in, colour)
    inner = (
        inner.replace('id="', f'id="{name}-').replace("url(#", f"url(#{name}-").replace('href="#', f'href="#{name}-')
    )
    opening = f'<svg viewBox="{height_wide}" role="img" aria-labelledby="{name}-words">'
    return FigureText(f'{opening}<desc id="{name}-words">{escape(shown(words))}</desc>{inner}', words)
