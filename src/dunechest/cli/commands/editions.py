"""``dunechest editions``."""

from __future__ import annotations

import sys

import click

from dunechest.cli.app import Group
from dunechest.cli.output import Out, common
from dunechest.cli.parts import Command, complete_chest, complete_held, shaped


@click.group("editions", cls=Group)
def command() -> None:
    """List or drop earlier states of a library.

    Each archive of a changed library makes an edition. Restore any of them with
    `dunechest restore CHEST LIBRARY --edition N`.
    """


@shaped("dunechest editions list blue marram-papers")
@command.command("list", cls=Command)
@click.argument("chest", metavar="CHEST", shell_complete=complete_chest)
@click.argument("library", metavar="LIBRARY", shell_complete=complete_held)
@common
def list_all(out: Out, chest: str, library: str) -> int:
    """List the editions of a library, and what changed between them."""
    from dunechest.cli.output import say_recovered
    from dunechest.cli.views import editions as view
    from dunechest.jobs.editions import list_editions
    from dunechest.jobs.known.named import resolve_chest

    target = resolve_chest(chest)
    say_recovered(out, target)
    listed = list_editions(target, library)
    out.problem(*(f"{listed.name}: {fault.path}: {fault.why}" for fault in listed.damaged_records))
    out.document("editions-list", target, libraries=[listed])
    if out.shows:
        view.show(out, listed)
    return 0


@shaped(
    'dunechest editions drop blue marram-papers --retain "the last 5" --plan',
    'dunechest editions drop blue marram-papers --retain "the last 5, one a year for ever" --yes',
)
@command.command("drop", cls=Command)
@click.argument("chest", metavar="CHEST", shell_complete=complete_chest)
@click.argument("library", metavar="LIBRARY", shell_complete=complete_held)
@click.option(
    "--retain",
    metavar="RULE",
    required=True,
    help='Which editions to keep, in words: "the last 5, one a week for two months, one a year for ever".',
)
@click.option(
    "--protected",
    type=click.IntRange(min=1),
    multiple=True,
    metavar="N",
    help="Let the rule decide about protected edition N, too; repeatable.",
)
@click.option("--plan", "plan_only", is_flag=True, help="Show what would be done, without doing it.")
@click.option("--yes", is_flag=True, help="Do not ask. Needed where there is no terminal.")
@common
def drop(
    out: Out, chest: str, library: str, retain: str, protected: tuple[int, ...], plan_only: bool, yes: bool
) -> int:
    """Drop the editions that a retention rule does not keep; it shows them and asks.

    The current edition is never dropped. An edition after which a large share of the
    files changed at once is protected: it is only dropped when you name it with
    --protected. What is dropped cannot be restored again.
    """
    from dunechest.cli.output import say_recovered
    from dunechest.cli.views import editions as view
    from dunechest.errors import RefusedError
    from dunechest.jobs.editions import carry_out, plan_drop
    from dunechest.jobs.known.named import resolve_chest
    from dunechest.names import shown
    from dunechest.words import number

    target = resolve_chest(chest)
    say_recovered(out, target)
    plan = plan_drop(target, library, retain, protected=protected)
    out.document("editions-drop", target, libraries=[plan], done=False)
    if not plan_only and plan.dropped_editions and not yes:
        count = number(len(plan.dropped_editions), "edition")
        if not out.shows or not (sys.stdin.isatty() and sys.stdout.isatty()):
            raise RefusedError(
                f"Refused: {count} of {shown(plan.name)} would be deleted for good, and there is no terminal to ask on. Nothing "
                "was changed. To see which: --plan. To do it without being asked: --yes"
            )
        view.show_drop(out, plan, done=False)
        if not click.confirm(f"Delete {count} for good?", default=False):
            out.console.print("Nothing was changed.")
            return 3
    if not plan_only:
        carry_out(plan)
    out.document("editions-drop", done=not plan_only)
    if out.shows:
        view.show_drop(out, plan, done=not plan_only)
    return 0
