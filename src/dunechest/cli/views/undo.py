"""How taking back is shown."""

from __future__ import annotations

from typing import Any

from rich.text import Text

from dunechest.cli.output import Out, limited
from dunechest.jobs.undo import UndoPlan
from dunechest.names import from_wire, shown
from dunechest.words import ago


def document(plan: UndoPlan, *, done: bool) -> dict[str, Any]:
    """Return the JSON document of `undo`."""
    head = plan.deed.head
    return {
        "job": head.job,
        "library": head.about,
        "place": from_wire(head.place),
        "when": head.when,
        "done": done,
        "taken_back": [{"path": str(action.path), "what": action.what} for action in plan.actions],
        "changed_since": list(plan.changed),
    }


def show(out: Out, plan: UndoPlan, *, done: bool) -> None:
    """Show what was, or would be, taken back."""
    console = out.console
    head = plan.deed.head
    words = "Taken back" if done else "To take back"
    what = "the references and settings updated by the" if plan.only_references else "the"
    console.print(
        Text(
            f"{words}: {what} {head.job} of {shown(head.about)} to {shown(from_wire(head.place))}", style="bold"
        ).append(f", {ago(head.when)}", style="not bold"),
        soft_wrap=True,
    )
    for what in dict.fromkeys(action.what for action in plan.actions):
        ones = [action for action in plan.actions if action.what == what]
        some, more = limited(ones, out.verbose, 4)
        for action in some:
            console.print(f"  {what}: {shown(str(action.path))}", soft_wrap=True)
        if more:
            console.print(f"  {what}: {more:,} more; --verbose shows all.")
    if plan.changed:
        console.print("It would be refused, since this changed meanwhile:", style="bold red")
        few, rest = limited(plan.changed, out.verbose)
        for item in few:
            console.print(f"  {shown(item)}", soft_wrap=True)
        if rest:
            console.print(f"  and {rest:,} more; --verbose shows all.")
    if not done:
        console.print("This is a plan: nothing was changed.", style="dim")
