"""How an office is shown."""

from __future__ import annotations

from rich.text import Text

from dunechest.cli.layout import BAD, GOOD, WARN, listing, say
from dunechest.cli.output import Out
from dunechest.model.office import ComputerAdded, Joined, Left, Office, OfficeMade, Sent
from dunechest.model.overview import OfficeSeen
from dunechest.names import quoted, shown
from dunechest.words import ago, number


def show_made(out: Out, made: OfficeMade, address: str) -> None:
    """Show that an office's ledger is ready."""
    if made.changed:
        say(out.console, f"The office's ledger is ready: {made.where}.", GOOD)
    else:
        say(out.console, f"The office's ledger is up to date: {made.where}. Nothing was changed.", GOOD)
    say(out.console, f"Next, for each computer: dunechest office add {quoted(address)} NAME")


def show_added(out: Out, added: ComputerAdded, secret: str | None) -> None:
    """Show how a computer that was let in joins, and its password if nobody knows it yet."""
    say(out.console, f"The office lets {shown(added.name)} in.", GOOD)
    say(out.console, "On that computer:", indent=2)
    say(out.console, f"-> dunechest office join {quoted(added.address)}", indent=4, hang=3)
    if secret is not None:
        say(out.console, Text("Its password, which is shown only now: ").append(secret, style="bold"), indent=2)


def show_removed(out: Out, name: str) -> None:
    """Show that a computer was shut out."""
    say(out.console, f"{shown(name)} is shut out of the office. What it told the office stays there.", GOOD)


def show_joined(out: Out, joined: Joined) -> None:
    """Show that an office was joined."""
    say(out.console, f"This computer belongs to the office now: {joined.where}.", GOOD)
    told = [number(joined.event_count, "event")] if joined.event_count else []
    told += [number(joined.list_count, "list of files", "lists of files")] if joined.list_count else []
    if told:
        say(out.console, f"{' and '.join(told)} sent.", indent=2)
    if joined.brought_back_count:
        say(
            out.console,
            f"{number(joined.brought_back_count, 'event')} that this computer had lost came back.",
            indent=2,
        )
    say(out.console, "What all computers know: dunechest status --office", indent=2)


def show_left(out: Out, left: Left) -> None:
    """Show that an office was left."""
    say(out.console, f"This computer no longer belongs to the office ({left.where}).", GOOD if left.sent else WARN)
    if not left.sent:
        say(out.console, f"Not all that it noted was sent before: {shown(left.why)}", indent=2)
    say(out.console, "All that it noted is still known here: dunechest status", indent=2)


def show_sent(out: Out, sent: Sent) -> None:
    """Show what was sent."""
    told = [number(sent.event_count, "event")] if sent.event_count else []
    told += [number(sent.list_count, "list of files", "lists of files")] if sent.list_count else []
    say(
        out.console,
        f"Sent to the office: {' and '.join(told)}." if told else "The office knows all that this computer does.",
        GOOD,
    )


def show_seen(out: Out, seen: OfficeSeen) -> None:
    """Show whose answer it is, if the office's server could not be asked."""
    if seen.why:
        say(out.console, f"This is what the office knew {ago(seen.seen_at)}: it cannot be asked now.", WARN)
        say(out.console, shown(seen.why), indent=2)


def show(out: Out, told: Office) -> None:
    """Show the computers of an office."""
    if told.why:
        say(out.console, f"The office cannot be asked now. This is what it knew {ago(told.seen_at)}.", BAD)
        say(out.console, shown(told.why), indent=2)
    else:
        expected = [item for item in told.computers if item.removed_at is None]
        say(out.console, f"The office of {number(len(expected), 'computer')}: {told.where}", GOOD)
    if told.sent_at is not None:
        say(out.console, f"This computer told it everything {ago(told.sent_at)}.", indent=2)
    rows = []
    for item in told.computers:
        heard = f"last news {ago(item.heard_at)}" if item.heard_at else "no news yet"
        if item.removed_at is not None:
            heard = f"shut out {ago(item.removed_at)}"
        name = f"{item.name} (this computer)" if item.this_computer else item.name
        found = number(item.library_count, "library", "libraries") if item.library_count else ""
        rows.append((shown(name), heard, found, number(item.chest_count, "chest") if item.chest_count else ""))
    out.console.print()
    listing(out.console, ("computer", "", "found", "last to see"), rows, [[] for _ in rows])
