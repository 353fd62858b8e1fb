"""``dunechest editions``."""

from __future__ import annotations

import sys

import click

from dunechest.cli.output import Out, common


@click.group("editions")
def command() -> None:
    """List or drop earlier states of a library.

    Each archive of a changed library makes an edition. Restore any of them with
    `dunechest restore CHEST LIBRARY --edition N`.
    """


@command.command("list")
@click.argument("chest", metavar="CHEST")
@click.argument("library", metavar="LIBRARY")
@common
def list_all(out: Out, chest: str, library: str) -> int:
    """List the editions of a library, and what changed between them."""
    from dunechest.cli.output import say_recovered
    from dunechest.cli.views import editions as editions_view
    from dunechest.jobs.editions import list_editions
    from dunechest.jobs.named import resolve_chest

    target = resolve_chest(chest)
    say_recovered(out, target)
    listed = list_editions(target, library)
    out.problem(*(f"{listed.bag}: {fault.path}: {fault.why}" for fault in listed.damage))
    if out.json:
        out.document(editions_view.document(listed))
    elif out.shows:
        editions_view.show(out, listed)
    return 0


@command.command("drop")
@click.argument("chest", metavar="CHEST")
@click.argument("library", metavar="LIBRARY")
@click.option(
    "--retain",
    metavar="RULE",
    required=True,
    help='Which editions to keep, in words: "the last 5, one a week for two months, one a year for ever".',
)
@click.option("--plan", "plan_only", is_flag=True, help="Show what would be done, without doing it.")
@click.option("--yes", is_flag=True, help="Do not ask. Needed where there is no terminal.")
@common
def drop(out: Out, chest: str, library: str, retain: str, plan_only: bool, yes: bool) -> int:
    """Drop the editions that a retention rule does not keep; it shows them and asks.

    The current edition is never dropped, nor is the one before a change of a large
    share of the files at once. What is dropped cannot be restored again.
    """
    from dunechest.cli.output import say_recovered
    from dunechest.cli.views import editions as editions_view
    from dunechest.errors import RefusedError
    from dunechest.jobs.editions import carry_out, plan_drop
    from dunechest.jobs.named import resolve_chest
    from dunechest.names import shown
    from dunechest.words import number

    target = resolve_chest(chest)
    say_recovered(out, target)
    plan = plan_drop(target, library, retain)
    if not plan_only and plan.dropped and not yes:
        if out.json or out.quiet or not (sys.stdin.isatty() and sys.stdout.isatty()):
            raise RefusedError(
                f"{number(len(plan.dropped), 'edition')} of {shown(plan.bag)} would be deleted for good. Nothing was changed. "
                "To see which: --plan. To do it without being asked: --yes"
            )
        editions_view.show_drop(out, plan, done=False)
        if not click.confirm(f"Delete {number(len(plan.dropped), 'edition')} for good?", default=False):
            out.console.print("Nothing was changed.")
            return 3
    if not plan_only:
        carry_out(plan)
    if out.json:
        out.document(editions_view.drop_document(plan, done=not plan_only))
    elif out.shows:
        editions_view.show_drop(out, plan, done=not plan_only)
    return 0
