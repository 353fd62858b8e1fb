"""How drills are shown."""

from __future__ import annotations

from collections.abc import Sequence

from rich.text import Text

from dunechest.cli.layout import BAD, GOOD, WARN, say
from dunechest.cli.output import Out
from dunechest.cli.views import proof
from dunechest.cli.views import restore as restore_view
from dunechest.cli.views.restore_lists import show_damage, show_not_done
from dunechest.model.drill import Drill
from dunechest.names import shown
from dunechest.words import duration, number, size


def problems(drill: Drill) -> list[str]:
    """Return a line for each thing that would keep a restore from being complete."""
    if drill.result is None:
        return [f"{drill.name}: {drill.why_not}"]
    return restore_view.problems(drill.result)


def show(out: Out, drills: Sequence[Drill]) -> None:
    """Show the outcome of all, then each."""
    failed = [shown(drill.name) for drill in drills if not drill.passed]
    if len(drills) > 1 and failed:
        say(
            out.console,
            f"{len(failed):,} of {number(len(drills), 'library', 'libraries')} DID NOT PASS: {', '.join(failed)}.",
            BAD,
        )
    elif len(drills) > 1:
        say(out.console, f"All {number(len(drills), 'library', 'libraries')} passed: a restore would work.", GOOD)
    for drill in drills:
        _show(out, drill)


def _show(out: Out, drill: Drill) -> None:
    console, name, result = out.console, shown(drill.name), drill.result
    if result is None and drill.closed:
        say(console, f"{name}: NOT TRIED: {shown(drill.why_not)}", WARN)
        return
    if result is None:
        say(console, f"{name}: DID NOT PASS: {shown(drill.why_not)}", BAD)
        return
    words = "passed the drill: a restore would work" if drill.passed else "DID NOT PASS"
    told = f" ({number(result.file_count, 'file')}, {size(result.size_bytes)}, {duration(result.seconds)})"
    say(console, Text(f"{name} {words}", style=GOOD if drill.passed else BAD).append(told, style="not bold default"))
    show_damage(out, result.damaged_records)
    show_not_done(out, result.not_restored, only_faults=True)
    proof.show(out, result.proof)
