"""``dunechest search``."""

from __future__ import annotations

from typing import Any

import click

from dunechest.cli.output import Out, common
from dunechest.cli.parts import NUMBER, Command, complete_chest, complete_kind, shaped


@shaped(
    "dunechest search tern colony",
    'dunechest search "*.jpg" --since 2023-05 --larger 100kB',
    'dunechest search --same-as ~/Documents/"Marram Papers"/papers.bib',
    sections={
        "Only": ("library", "kind", "chest", "larger", "smaller", "since", "until", "same_as"),
    },
)
@click.command("search", cls=Command)
@click.argument("patterns", nargs=-1, metavar="[PATTERN]...")
@click.option("--library", metavar="NAME", help="Only in the library of this name.")
@click.option("--kind", metavar="KIND", help="Only in libraries of this kind.", shell_complete=complete_kind)
@click.option("--on", "chest", metavar="CHEST", help="Only what this chest has.", shell_complete=complete_chest)
@click.option("--larger", metavar="SIZE", help="Only files of at least this size, such as 10MB.")
@click.option("--smaller", metavar="SIZE", help="Only files of at most this size.")
@click.option("--since", metavar="DATE", help="Only files changed on or after this day, month or year: 2023-05-01.")
@click.option("--until", metavar="DATE", help="Only files changed on or before this day, month or year.")
@click.option("--same-as", metavar="FILE", help="Only files with the same content as this file on the computer.")
@click.option("--most", metavar="NUMBER", type=NUMBER, help="Find so many files at most; by default 200.")
@click.option("--office", is_flag=True, help="Answer for all computers of the office.")
@click.option("--computer", metavar="NAME", help="Answer for this computer of the office.")
@common
def command(out: Out, patterns: tuple[str, ...], **asked: Any) -> int:
    """Search all chests for a file, with no drive connected, and show how to restore it.

    PATTERN is a word that the file's path has in it; or, with * or ?, a pattern for the
    file's name, or for its path in the library if it has a / in it. Several must all
    fit. Capitals do not count. Earlier editions are searched too.

    The answer comes from what this computer has seen of each chest: a chest becomes
    known when it is archived to, copied to, verified, restored from or shown.
    """
    from dunechest.cli.views import search as view
    from dunechest.jobs.overview.search import MOST, search
    from dunechest.model.overview import SearchOptions

    since, until = _moments(asked["since"], "--since"), _moments(asked["until"], "--until")
    options = SearchOptions(
        library=asked["library"],
        kind=asked["kind"],
        chest=asked["chest"],
        smallest=_size(asked["larger"], "--larger"),
        largest=_size(asked["smaller"], "--smaller"),
        since=since[0] if since else None,
        before=until[1] if until else None,
        same_as=asked["same_as"],
    )
    result = search(patterns, options, most=asked["most"] or MOST, office=asked["office"], computer=asked["computer"])
    out.document("search", told=result)
    if out.shows:
        view.show(out, result)
    return 0 if result.files else 1


def _size(text: str | None, option: str) -> int | None:
    from dunechest.errors import UsageError
    from dunechest.words import bytes_of

    if text is None:
        return None
    found = bytes_of(text)
    if found is None:
        raise UsageError(f"{option} takes a size such as 700kB, 10MB or 1.5GB.")
    return found


def _moments(text: str | None, option: str) -> tuple[float, float] | None:
    from dunechest.errors import UsageError
    from dunechest.words import days_of

    if text is None:
        return None
    found = days_of(text)
    if found is None:
        raise UsageError(f"{option} takes a day, month or year: 2023-05-01, 2023-05 or 2023.")
    return found
