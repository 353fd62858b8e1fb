"""How summaries of a restore are shown."""

from __future__ import annotations

from collections.abc import Sequence

from rich.text import Text

from dunechest.cli.layout import BAD, GOOD, WARN, homely, say
from dunechest.cli.output import Out, show_findings, show_list
from dunechest.cli.views import proof
from dunechest.cli.views.restore_lists import (
    show_by_hand,
    show_damage,
    show_not_done,
    show_outside_files,
    show_renamed,
)
from dunechest.jobs.undo.forward import begun_removal
from dunechest.jobs.undo.interrupted import begun_words
from dunechest.ledger.past_changes import PastChange
from dunechest.model.restore import RestoreResult
from dunechest.names import shown
from dunechest.words import duration, number, size


def say_undone_first(out: Out, past_change: PastChange) -> None:
    """Say that an interrupted change was undone, or finished."""
    if out.shows:
        end = "it was finished now" if begun_removal(past_change) else "what it had begun was undone"
        words = f"{begun_words(past_change)} had been interrupted; {end}."
        say(out.console, words, WARN)


def problems(result: RestoreResult) -> list[str]:
    """Return a line for each thing that keeps a restore from being complete."""
    found = [f"{result.name}: {fault.path}: {fault.why}" for fault in result.damaged_records]
    found += [f"{result.name}: {item.path}: {item.why}" for item in result.not_restored if item.fault]
    found += [
        f"{result.name}: {line.what}: {line.before} before, {line.after} after"
        for line in result.proof.lines
        if not line.passed
    ]
    return found


def show_result(out: Out, result: RestoreResult) -> None:
    """Show the summary of a restore: the outcome and the place, what is wrong, the checks, the next step."""
    console = out.console
    name = shown(result.name)
    partial = result.file_count < result.listed_count and not result.ok
    if partial:
        title = f"INCOMPLETE: {result.file_count:,} of {number(result.listed_count, 'file')} of {name} restored"
    elif not result.ok:
        title = f"Restored {name}, WITH PROBLEMS: {number(result.file_count, 'file')}, {size(result.size_bytes)}"
    else:
        title = f"Restored {name}: {number(result.file_count, 'file')}, {size(result.size_bytes)}, each one checked"
    if result.single_file_paths or (not result.listed_count and not result.ok):
        title = _title_of_files(result)
    head = Text(title, style=GOOD if result.ok else BAD)
    say(console, head.append(f" ({duration(result.seconds)})", style="not bold default"))
    console.print(out.place(result.path), soft_wrap=True)
    show_damage(out, result.damaged_records)
    show_not_done(out, result.not_restored, only_faults=True)
    show_findings(out, result.findings)
    for old, new in result.set_aside:
        say(console, f"Set aside: {homely(old)} is now {homely(new)}", indent=2)
    beside = dict(result.renamed_conflicts)
    lines = [shown(path) for path in result.single_file_paths if path not in beside]
    show_list(out, f"{'These are' if len(lines) > 1 else 'This is'} in place:", lines, most=10)
    if result.existing_count and not result.single_file_paths:
        was = "was" if result.existing_count == 1 else "were"
        say(console, f"{number(result.existing_count, 'file')} {was} there already and {was} only checked.", indent=2)
    _show_merged(out, result)
    show_not_done(out, [item for item in result.not_restored if not item.fault])
    show_renamed(out, result.renamed)
    show_outside_files(out, result.outside_files)
    if result.updated_references:
        files = len({update.file for update in result.updated_references})
        words = f"Updated {number(len(result.updated_references), 'reference')} in {number(files, 'file')} to the new place."
        say(console, words, indent=2)
    for setting in result.settings:
        why = setting.why_not
        words = f"NOT updated: {shown(why)}" if why else f"Updated the library location in {homely(setting.file)}"
        say(console, words, WARN if why else "", indent=2)
    show_by_hand(out, result.references_by_hand)
    proof.show(out, result.proof)
    if result.application and result.ok:
        opens = "" if result.settings else f" and let it open {homely(result.path)}"
        say(console, f"Next: start {shown(result.application)}{opens}.")
    elif partial:
        say(
            console,
            "-> Do not rely on this copy. Restore the missing files from another chest, if you have one.",
            hang=3,
        )
    console.print()


def _show_merged(out: Out, result: RestoreResult) -> None:
    console = out.console
    for merged in result.merged_files:
        entries = number(merged.added_count, "entry", "entries")
        if merged.taken_out_count:
            words = f"{shown(merged.path)}: {merged.taken_out_count:,} entries of other parts were left out"
        elif merged.added_count:
            words = f"{shown(merged.path)}: {entries} added to those that were here"
        else:
            words = f"{shown(merged.path)}: nothing was missing here"
        say(console, words + ".", indent=2)
        if merged.differing:
            some = ", ".join(shown(name) for name in merged.differing[:5])
            say(console, f"{number(len(merged.differing), 'entry', 'entries')} differ in both: {some}", indent=4)
    title = f"{number(len(result.renamed_conflicts), 'file')} restored under another name, because the name is taken:"
    show_list(out, title, [f"{shown(path)} -> {shown(other)}" for path, other in result.renamed_conflicts], most=5)
    for words, paths in (
        ("kept as they are here", result.kept_paths),
        ("replaced; your files were kept", result.replaced_paths),
    ):
        if paths:
            say(console, f"{number(len(paths), 'file')} {words}; the first: {shown(paths[0])}", indent=2)


def _title_of_files(result: RestoreResult) -> str:
    """Say what became of single files."""
    name = f"{shown(result.name)} (edition {result.edition})"
    if not result.ok:
        return f"INCOMPLETE: {result.file_count:,} of {number(result.listed_count, 'file')} of {name} restored"
    if result.existing_count == result.file_count:
        return f"Nothing to restore: {number(result.file_count, 'file')} of {name} already there, each one checked"
    return f"Restored {number(result.file_count - result.existing_count, 'file')} of {name}, each one checked"


def show_last(out: Out, results: Sequence[RestoreResult], seconds: float) -> None:
    """Show the closing total of several libraries, and how to undo it."""
    if len(results) > 1:
        files, count = sum(result.file_count for result in results), sum(result.size_bytes for result in results)
        wrong = len(out.problems)
        outcome = "restored" if wrong else "restored and checked"
        text = (
            f"{number(len(results), 'library', 'libraries')}, {number(files, 'file')}, {size(count)} {outcome} in "
            f"{duration(seconds)}" + (f"; {number(wrong, 'problem')}" if wrong else "") + "."
        )
        say(out.console, text, BAD if wrong else "bold")
    if any(result.undoable for result in results):
        say(out.console, "To undo this restore: dunechest undo")
