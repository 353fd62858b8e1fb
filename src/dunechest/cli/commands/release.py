"""``dunechest release``."""

from __future__ import annotations

import functools
from collections.abc import Callable, Iterable
from typing import TYPE_CHECKING, Any

import click

from dunechest.cli.output import Out, common
from dunechest.cli.parts import Command, complete_chest, shaped

if TYPE_CHECKING:
    from dunechest.chest.chest import Chest


@shaped("dunechest release blue")
@click.command("release", cls=Command)
@click.argument("chests", nargs=-1, required=True, metavar="CHEST...", shell_complete=complete_chest)
@common
def command(out: Out, chests: tuple[str, ...]) -> int:
    """Make a drive safe to unplug, and say whether you may.

    Interrupted changes are finished, what waits in memory is written to the drive, and
    it is unmounted by the system's own command. If a program still uses the drive, it is
    named with the file, and nothing is forced.

    The exit status is 3 if the drive is still used, 1 if it has to be unmounted by hand.
    archive, copy, verify and mend do this at their end with --release.
    """
    from dunechest.jobs.known.named import resolve_chest

    return release_all(out, [resolve_chest(chest) for chest in chests])


def release_all(out: Out, chests: Iterable[Chest], before: int = 0) -> int:
    """Release chests at the end of a command, and return the exit status: that of what was done before, if it is not 0."""
    from dunechest.cli.views import release as view
    from dunechest.jobs.release import release

    statuses = []
    results = []
    for chest in {chest.id: chest for chest in chests}.values():
        result = release(chest)
        results.append(result)
        statuses.append(view.STATUS[result.outcome])
        out.note_findings(result.findings)
        out.problem(*([result.message] if statuses[-1] else []))
        if out.shows:
            view.show(out, result)
    out.document(out.schema, released_drives=results)
    return before or max(statuses, default=0)


def releasing(function: Callable[..., int]) -> Callable[..., Any]:
    """Give a command ``--release``: at its end the drives of the chests that it noted in `Out.chests` are released."""

    @click.option("--release", is_flag=True, help="At the end, make the drive safe to unplug.")
    @functools.wraps(function)
    def wrapped(out: Out, release: bool, **rest: Any) -> int:
        if release and rest.get("plan_only"):
            from dunechest.errors import UsageError

            raise UsageError("--release does not go with --plan.")
        status = function(out, **rest)
        if not release:
            return status
        return release_all(out, [chest for chest in out.chests if not chest.is_on_server], status)

    return wrapped
