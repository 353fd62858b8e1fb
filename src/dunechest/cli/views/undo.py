"""How undoing is shown."""

from __future__ import annotations

from rich.text import Text

from dunechest.cli.layout import BAD, GOOD, homely, say
from dunechest.cli.output import Out, limited, show_list
from dunechest.jobs.undo import UndoPlan
from dunechest.names import from_wire, shown
from dunechest.words import ago

_JOBS = {"rehome": "move", "rejoin": "rejoining", "reclaim": "deletion"}


def show(out: Out, plan: UndoPlan, *, done: bool) -> None:
    """Show what was, or would be, undone."""
    console = out.console
    head = plan.libraries[-1].head  # what one command did besides began later
    names = ", ".join(dict.fromkeys(shown(past_change.head.about) for past_change in reversed(plan.libraries)))
    what = "the updated references and settings of the " if plan.only_references else "the "
    about = f"{what}{_JOBS.get(head.job, head.job)} of {names}"
    when = f" ({ago(head.when)})"
    if plan.changed_since:
        say(console, f"This would be refused: {about} cannot be undone, because of changes since then.", BAD)
    elif done:
        say(console, Text(f"Undone: {about}", style=GOOD).append(when, style="not bold default"))
    else:
        say(console, Text(f"To be undone: {about}", style="bold").append(when, style="not bold"))
    say(console, f"in {homely(from_wire(head.place))}", indent=4)
    show_list(out, "Changed since:", [shown(item) for item in plan.changed_since])
    for what in dict.fromkeys(action.what for action in plan.actions):
        of_one = [action for action in plan.actions if action.what == what]
        some, more = limited(of_one, out.verbose, 4)
        for action in some:
            say(console, f"{what}: {homely(action.path)}", indent=2, hang=4)
        if more:
            say(console, f"{what}: {more:,} more (--verbose shows all)", indent=2)
    if not done:
        say(console, "This is a plan; nothing was changed.")
