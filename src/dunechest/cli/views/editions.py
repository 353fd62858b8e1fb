"""How editions are shown, and which are or would be dropped."""

from __future__ import annotations

from rich.text import Text

from dunechest.cli.layout import BAD, DIM, GOOD, WARN, say
from dunechest.cli.output import Out, limited
from dunechest.cli.views.archive import changes_in_words
from dunechest.model.editions import DropPlan, Edition, EditionList
from dunechest.names import quoted, shown
from dunechest.words import local, number, size


def show(out: Out, listed: EditionList) -> None:
    """Show `editions list`, the current one last."""
    console = out.console
    earlier = len(listed.editions) - 1
    name = f"{shown(listed.chest.label)}/{shown(listed.name)}"
    if earlier:
        words = f"earlier {'one takes' if earlier == 1 else 'ones take'} up {size(listed.earlier_bytes)}"
        say(console, f"{name}: {number(len(listed.editions), 'edition')}; the {words}.")
    else:
        say(console, f"{name}: 1 edition. Archive the library again when it has changed.")
    for fault in listed.damaged_records:
        say(console, f"DAMAGED record: {shown(fault.path)}: {shown(fault.why)}; editions may be missing here.", BAD)
    for edition in listed.editions:
        _show_edition(out, edition)
    if earlier:
        command = f"dunechest restore {quoted(listed.chest.label)} {quoted(listed.name)} --edition N"
        say(console, f"To restore one: {command}")


def _show_edition(out: Out, edition: Edition) -> None:
    console = out.console
    record = edition.record
    head = Text(f"edition {edition.edition}", style="bold")
    head.append(f"  {local(record.archived)}, {shown(record.origin.machine)}", style="not bold")
    head.append(f"  {number(edition.file_count, 'file')}, {size(edition.size_bytes)}", style="not bold")
    if edition.current:
        head.append("  current", style=GOOD)
    if record.incomplete:
        head.append("  INCOMPLETE", style=WARN)
    if record.mass_change:
        head.append("  many files changed at once", style=BAD)
    if edition.protected:
        head.append("  protected", style=GOOD)
    say(console, head, indent=2)
    if edition.not_seen_count:
        say(
            console,
            f"{number(edition.not_seen_count, 'file')} could not be seen then; kept from before.",
            WARN,
            indent=4,
        )
    if edition.changes is None:
        return
    added = f" {size(edition.changes.added_bytes)} new." if edition.changes.added_bytes else ""
    say(console, f"{changes_in_words(edition.changes)}{added}", indent=4)
    some, _ = limited(edition.changed_files, out.verbose, 6)
    for change in some:
        was = f"  (was {_own(change.former_path)})" if change.former_path else ""
        what = "deleted" if change.what == "dropped" else change.what
        say(console, f"{what:<8} {_own(change.path)}{was}", indent=6, hang=9)
    counts = edition.changes
    more = counts.added_count + counts.changed_count + counts.moved_count + counts.dropped_count - len(some)
    if more:
        hint = "" if out.verbose else f" (--verbose names the first {len(edition.changed_files)})"
        say(console, f"and {more:,} more{hint}", DIM, indent=6)


def _own(path: str) -> str:
    return shown(path.removeprefix("library/"))


def show_drop(out: Out, plan: DropPlan, *, done: bool) -> None:
    """Show which editions are or would be dropped."""
    console = out.console
    name = f"{shown(plan.chest.label)}/{shown(plan.name)}"
    if not plan.dropped_editions:
        say(console, f"Nothing to delete: the rule keeps every edition of {name}.", GOOD)
    elif done:
        say(
            console,
            f"Deleted {number(len(plan.dropped_editions), 'edition')} of {name}; {size(plan.freed_bytes)} are free now.",
            GOOD,
        )
    else:
        count = number(len(plan.dropped_editions), "edition")
        say(
            console,
            f"This is a plan; nothing was deleted. It would delete {count} of {name} and free {size(plan.freed_bytes)}.",
        )
    say(console, f"Rule:    {shown(plan.rule)}", indent=2, hang=9)
    say(
        console, f"Keep:    {', '.join(map(str, plan.kept_editions))} (the last is the current one)", indent=2, hang=9
    )
    if plan.exempt_editions:
        words = (
            f"of these, {', '.join(map(str, plan.exempt_editions))} only because many files changed afterwards "
            f"(to drop one of them, "
            "too: --protected N)"
        )
        say(console, words, WARN, indent=11)
    if plan.dropped_editions:
        say(
            console,
            f"{'Deleted' if done else 'Delete'}: {', '.join(map(str, plan.dropped_editions))}",
            indent=2,
            hang=9,
        )
