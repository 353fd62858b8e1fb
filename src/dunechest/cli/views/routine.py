"""How routines are shown."""

from __future__ import annotations

from collections.abc import Sequence

from rich.text import Text

from dunechest.cli.layout import BAD, GOOD, WARN, say
from dunechest.cli.output import Out, limited, show_list
from dunechest.jobs.routine import DueRuns, Routine, RoutineInstallation, RoutineRun
from dunechest.model.routine import RoutineState
from dunechest.names import shown
from dunechest.words import ago, day, duration, number

_STYLES = {"problem": BAD, "blocked": WARN, "late": WARN, "interrupted": WARN, "busy": WARN, "waiting": WARN}
#: Outcomes as people read them.
OUTCOMES = {
    "ok": "OK",
    "problem": "PROBLEM",
    "blocked": "needs your decision",
    "late": "overdue",
    "interrupted": "interrupted, is continued",
    "busy": "another program was at it, is tried again",
    "waiting": "waiting for a drive",
    "never run": "has not run yet",
    "unusable": "NOT UNDERSTOOD",
}


def show_added(out: Out, installation: RoutineInstallation, *, plan: bool) -> None:
    """Show what was, or would be, installed for a routine."""
    console = out.console
    routine = installation.routine
    if plan:
        say(console, f"Would add the routine {routine.name}: {routine.words}.", "bold")
    else:
        line = Text(f"Added the routine {routine.name}", style=GOOD)
        say(console, line.append(f": {routine.words}.", style="not bold default"))
    for text in _what(routine):
        say(console, text, indent=2)
    if routine.archives:
        some, more = limited(installation.library_paths, out.verbose, 8)
        for place in some:
            console.print(out.place(place), soft_wrap=True)
        if more:
            say(console, f"and {more:,} more (--verbose shows all)", indent=4)
    say(console, "Would be written:" if plan else "Written:", indent=2)
    for place, text in installation.files:
        if place:
            console.print(out.place(place), soft_wrap=True)
        else:
            say(console, f"{'Would be given' if plan else 'Given'} to {routine.scheduler}:", indent=2)
        if not place or out.verbose:
            for inner in text.splitlines():
                console.print(Text("      " + shown(inner)), soft_wrap=True)
    say(console, "Started by it:", indent=2)
    console.print(Text("    " + " ".join(map(shown, installation.command_words))), soft_wrap=True)
    if plan:
        say(console, "This is a plan; nothing was installed.")
        return
    if installation.installed:
        say(console, f"Checked: {shown(installation.scheduler_says)}.", GOOD)
    else:
        say(console, "Nothing starts it by itself: see to it that its command runs every hour.", WARN)
    if routine.scheduler == "systemd":
        say(console, "It runs while you are logged in. To have it run at other times, too: loginctl enable-linger")
    say(console, f"-> To try it now: dunechest routine run {routine.name}", hang=3)


def _what(routine: Routine) -> list[str]:
    """Return in sentences what a routine does."""
    chests = ", ".join(shown(chest.label) for chest in routine.chests)
    told = []
    if routine.archives:
        parts = [shown(library.name) for library in routine.named_libraries]
        parts += [f"every library of the kind {shown(kind)}" for kind in routine.kinds]
        parts += ["every library in your home folder, new ones included"] if routine.all_libraries_in_home else []
        told.append(f"Archives to {chests}: {', '.join(parts)}.")
    if routine.copy_chests:
        targets = ", ".join(shown(chest.label) for chest in routine.copy_chests)
        told.append(f"Then copies {chests} to {targets}.")
    if routine.retention_rule:
        told.append(f"Then drops editions, but keeps {shown(routine.retention_rule)}.")
    if routine.verify_minutes:
        told.append(f"Then verifies each chest for {routine.verify_minutes:g} min.")
    if routine.drills_monthly:
        told.append("Then drills one library of each chest, once a month.")
    limits = ["gives way to all other programs"]
    if routine.limit is not None:
        limits.append(f"reads at most {routine.limit:g} MB/s")
    if routine.only_on_mains:
        limits.append("only on mains power")
    told.append(f"Limits: {', '.join(limits)}.")
    ways = ["a notification on the desktop"] if routine.notifies else []
    ways += [f"the command {shown(routine.tell_command)}"] if routine.tell_command else []
    ways += ["the log", "dunechest status"]
    told.append(f"What is wrong is told by {', '.join(ways[:-1])} and {ways[-1]}.")
    told.append(f"A drive that is not there is told after {number(round(routine.patience), 'day')}.")
    return told


def show_all(out: Out, states: Sequence[RoutineState]) -> None:
    """Show how all routines do."""
    console = out.console
    if not states:
        say(console, "There is no routine yet. To add one: dunechest routine add --help")
        return
    for state in states:
        show_state(out, state)


def show_state(out: Out, state: RoutineState, *, brief: bool = False) -> None:
    """Show how a routine does; `brief` where what is wrong with it was said before."""
    console = out.console
    outcome = "late" if state.overdue_labels else state.last_outcome
    style = _STYLES.get(outcome, BAD if outcome == "unusable" else GOOD if outcome == "ok" else "")
    line = (
        Text()
        .append(shown(state.name), style="bold")
        .append("  ")
        .append(OUTCOMES.get(outcome, outcome), style=style)
    )
    if state.last_at is not None:
        line.append(f", {ago(state.last_at)}")
    say(console, line)
    if state.routine is not None:
        say(console, state.routine.words, indent=4)
        if state.next_at is not None:
            say(console, f"next: {day(state.next_at)}", indent=4)
    for label in state.waiting_labels:
        if label in state.overdue_labels and state.message and not brief:
            continue  # that is what the message says
        late = " (overdue)" if label in state.overdue_labels else ""
        say(console, f"due for {shown(label)}, which is not connected{late}", WARN if late else "", indent=4)
    if brief:
        return
    if state.running_since_at is not None:
        say(console, f"running, or interrupted, since {day(state.running_since_at)}", indent=4)
    if state.message and not brief:
        say(console, shown(state.message), _STYLES.get(state.last_outcome, BAD), indent=4, hang=2)
        if state.command:
            say(console, f"-> {state.command}", indent=4, hang=3)


def show_one(out: Out, state: RoutineState) -> None:
    """Show all about one routine."""
    console = out.console
    show_state(out, state)
    if state.routine is not None:
        for text in _what(state.routine):
            say(console, text, indent=4, hang=2)
    if state.scheduler_says:
        say(console, f"Scheduler: {shown(state.scheduler_says)}.", indent=4, hang=2)
    show_list(out, "The last run:", [shown(line) for line in state.last_lines])
    say(console, "Its file, which may be edited:", indent=2)
    console.print(out.place(state.file), soft_wrap=True)


def show_runs(out: Out, result: DueRuns) -> None:
    """Show what ran, and what came of it."""
    console = out.console
    if result.busy:
        say(console, "Routines are being run by another process now; nothing was done.", WARN)
        return
    if not result.runs and not result.waiting:
        say(console, "Nothing is due.", GOOD)
    for name, why in result.waiting:
        say(console, f"{shown(name)} waits: {shown(why)}.")
    for run in result.runs:
        _show_run(out, run)


def _show_run(out: Out, run: RoutineRun) -> None:
    console = out.console
    style = _STYLES.get(run.outcome, GOOD)
    line = (
        Text()
        .append(shown(run.name), style="bold")
        .append("  ")
        .append(OUTCOMES.get(run.outcome, run.outcome), style=style)
    )
    took = run.ended_at - run.begun_at
    if took > 0:
        line.append(f" ({duration(took)})")
    say(console, line)
    unchanged = sum(step.outcome == "unchanged" for step in run.steps)
    for step in run.steps:
        if step.outcome == "unchanged" and not out.verbose:
            continue
        say(console, shown(step.message), _STYLES.get(step.outcome, ""), indent=4, hang=2)
        if step.command:
            say(console, f"-> {step.command}", indent=6, hang=3)
    if unchanged and not out.verbose:
        say(console, f"{number(unchanged, 'library', 'libraries')} unchanged", indent=4)
    told = {step.chest_label for step in run.steps if step.what == "wait"}
    for label in run.absent_labels:
        if label in told:
            continue
        say(console, f"{shown(label)} is not connected; it is served when it is back", indent=4)
    if run.waiting_for:
        say(console, f"Waits: {shown(run.waiting_for)}", indent=4)
    for why in run.failed_ways:
        say(console, f"Could not tell by {shown(why)}", WARN, indent=4)


def status_of(result: DueRuns) -> int:
    """Return the exit status for what ran: 1 for something wrong, 3 for a decision, 4 for no drive at all."""
    outcomes = {run.outcome for run in result.runs}
    if "problem" in outcomes:
        return 1
    if "blocked" in outcomes or "late" in outcomes:
        return 3
    if outcomes and outcomes <= {"waiting", "interrupted", "busy"}:
        return 4
    return 0


def show_removed(out: Out, name: str, gone: Sequence[str]) -> None:
    """Show what was removed of a routine."""
    console = out.console
    say(console, f"Removed the routine {shown(name)}. Chests and libraries are as they were.", GOOD)
    for what in gone:
        say(console, shown(what), indent=4)
