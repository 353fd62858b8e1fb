"""``dunechest restore``."""

from __future__ import annotations

import click

from dunechest.cli.output import Out, common


@click.command("restore")
@click.argument("chest", metavar="CHEST")
@click.argument("library", metavar="LIBRARY")
@click.option("--home", metavar="DIR", type=click.Path(), help="Whose home it goes into; your own by default.")
@click.option("--into", metavar="FOLDER", type=click.Path(), help="The folder it becomes, exactly.")
@click.option(
    "--edition", type=click.IntRange(1), metavar="N", help="An earlier edition; the current one by default."
)
@click.option("--plan", "plan_only", is_flag=True, help="Say what would be done, and do nothing.")
@click.option(
    "--outward-links",
    is_flag=True,
    help="Also make symbolic links that lead out of the library (trust the drive).",
)
@common
def command(
    out: Out,
    chest: str,
    library: str,
    home: str | None,
    into: str | None,
    edition: int | None,
    plan_only: bool,
    outward_links: bool,
) -> int:
    """Bring a library back, and check every file while it is written.

    It goes to the place it had relative to a standard folder (home, pictures,
    settings, data ...), in your own home or in the one --home names; or exactly
    where --into says. Nothing existing is ever overwritten.

    Install the application first, and do not start it until this is done.
    """
    from dunechest.cli import restore_view
    from dunechest.cli.output import say_recovered
    from dunechest.findings import stops
    from dunechest.jobs import restoring
    from dunechest.jobs.chests import resolve_chest
    from dunechest.jobs.restore import plan_restore

    source = resolve_chest(chest)
    say_recovered(out, source)
    links = True if outward_links else None
    plan = plan_restore(source, library, home=home, into=into, edition=edition, outward_links=links)
    if plan_only:
        if out.json:
            out.document(restore_view.plan_document(plan))
        elif out.shows:
            restore_view.show_plan(out, plan)
        return 3 if stops(plan.findings) else 0
    restoring.refuse_if_stopped([plan])
    with out.following() as progress:
        result = restoring.carry_out(plan, progress=progress)
    if out.json:
        out.document(restore_view.result_document(result))
    elif out.shows:
        restore_view.show_result(out, result)
    return 0 if result.well else 1
