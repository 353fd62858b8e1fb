"""How the plan and the summary of an archive are shown."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from rich.text import Text

from dunechest.cli.layout import BAD, GOOD, WARN, facts, say
from dunechest.cli.output import Out, show_findings, show_list
from dunechest.findings import blocking
from dunechest.model.archive import NOT_SEEN_NOW
from dunechest.names import quoted, shown
from dunechest.words import duration, number, size

if TYPE_CHECKING:
    from dunechest.chest.chest import Chest
    from dunechest.chest.records import ChangeCounts
    from dunechest.model.archive import ArchivePlan, ArchiveResult
    from dunechest.model.study import LeftOutFile

_STATES = {
    "new": "will be archived",
    "unchanged": "unchanged since it was archived; nothing will be done",
    "next": "will get its next edition",
    "blocked": "cannot be archived under this name",
}


def show_plans(out: Out, plans: Sequence[ArchivePlan], ignore: Sequence[str]) -> None:
    """Show `archive --plan`."""
    console = out.console
    refused = [plan.library.name for plan in plans if blocking(plan.findings, ignore)]
    if refused:
        say(console, f"This would be refused: {', '.join(map(shown, refused))} cannot be archived now.", BAD)
    else:
        say(console, "This is a plan; nothing was written.", GOOD)
    for plan in plans:
        console.print()
        head = Text(plan.library.name, style="bold")
        head.append(
            f" -> {shown(plan.chest.label)}/{shown(plan.archived_as)}: {_STATES[plan.state]}", style="not bold"
        )
        say(console, head)
        _show_parts(out, plan.parts)
        show_findings(out, plan.findings)
        facts(console, list(_plan_facts(plan)))
        _show_left(out, plan.left_out)
        _show_names(out, plan.changed_names)
    if len(plans) > 1:
        files, count = sum(plan.copy_count for plan in plans), sum(plan.copy_bytes for plan in plans)
        console.print()
        say(console, f"{number(len(plans), 'library', 'libraries')}, {number(files, 'file')} to copy, {size(count)}.")


def _plan_facts(plan: ArchivePlan) -> Iterator[tuple[str, str, str]]:
    yield "found", number(plan.found_count, "file"), size(plan.found_bytes)
    if plan.state == "next":
        if plan.unchanged_count:
            read = "will be read again" if plan.options.read_all else "on the drive already"
            yield "unchanged", number(plan.unchanged_count, "file"), read
        yield "new or changed", number(plan.copy_count, "file"), size(plan.copy_bytes)
        if plan.dropped_count:
            yield "deleted since", number(plan.dropped_count, "file"), "kept in the earlier edition"
    else:
        yield "to copy", number(plan.copy_count, "file"), size(plan.copy_bytes)
    if plan.not_seen_files:
        yield "not seen", number(len(plan.not_seen_files), "file"), "kept as the archive has them"
    if plan.archived_outside_files:
        count = sum(outside.entry.size for outside in plan.archived_outside_files)
        yield (
            "outside",
            number(len(plan.archived_outside_files), "file"),
            f"{size(count)}, stored outside the library",
        )
    if plan.databases:
        yield "databases", number(len(plan.databases), "database"), "copied through SQLite"
    if plan.link_count:
        yield "recorded", number(plan.link_count, "symbolic link"), ""
    if plan.state in ("new", "next"):
        yield "space needed", size(plan.room.need), f"of {size(plan.room.free)} free"


def _show_parts(out: Out, parts: Sequence[str]) -> None:
    if parts:
        titles = ", ".join(shown(part) for part in parts)
        say(out.console, f"Only {titles}, and what that needs: the copy is partial.", WARN, indent=2)


def _show_left(out: Out, left: Sequence[LeftOutFile]) -> None:
    lines = []
    for item in sorted(left, key=lambda o: (not o.fault, o.path)):
        line = Text(shown(item.path), style=BAD if item.fault else "")
        lines.append(line.append(f"  {size(item.size_bytes)}: {shown(item.why)}", style="not bold default"))
    title = f"Left out: {number(len(left), 'file')}, {size(sum(item.size_bytes for item in left))}"
    show_list(out, f"{title}:", lines)


def _show_names(out: Out, names: Sequence[tuple[str, str]]) -> None:
    title = (
        f"{number(len(names), 'name')} cannot be stored on this drive as written; a restore gives the original names "
        "back:"
    )
    out.show_pairs(title, names)


def changes_in_words(changes: ChangeCounts) -> str:
    """Say in words what an edition changed."""
    counts = (
        (changes.added_count, "added"),
        (changes.changed_count, "changed"),
        (changes.moved_count, "moved"),
        (changes.dropped_count, "deleted"),
    )
    words = ", ".join(f"{count:,} {what}" for count, what in counts if count)
    return f"Since the edition before: {words or 'no file was added, changed, moved or deleted'}."


def problems(result: ArchiveResult) -> list[str]:
    """Return a line for each thing that keeps an archive from being complete."""
    name = result.name
    found = [f"{name}: {file.path}: left out: {file.why}" for file in result.left_out if file.fault]
    found += [f"{name}: {path}: {why}" for path, why in result.damaged_databases]
    found += [f"{name}: {path}: it appeared after the archive had begun" for path in result.appeared_paths]
    found += [f"{name}: {path}: it changed after it was copied" for path in result.changed_paths]
    found += [
        f"{name}: {path}: its content changed without a new size or date" for path in result.silently_changed_paths
    ]
    return found + [f"{name}: {path}: lost from the chest: {why}" for path, why in result.lost_files]


def tell(out: Out, result: ArchiveResult, chest: Chest, before: ArchiveResult | None = None) -> None:
    """Note what is wrong with a result, and show it where results are shown in words.

    `before` is what was told just before of the same library in another chest.
    """
    out.problem(*problems(result))
    out.note_findings(result.findings, result.name)
    if out.shows:
        show_result(out, result, chest, before)


def show_result(out: Out, result: ArchiveResult, chest: Chest, before: ArchiveResult | None = None) -> None:
    """Show the summary of one library: the outcome, what is wrong, the numbers, and what was left out."""
    console = out.console
    name = f"{shown(chest.label)}/{shown(result.archived_as)}"
    if result.state == "unchanged":
        if result.ok:
            say(console, f"Unchanged: {shown(result.name)} is in {name} already.", GOOD)
        else:
            say(console, f"PROBLEM: {shown(result.name)} is unchanged, but {name} has lost files.", BAD)
        _show_repaired(out, result, name)
        say(
            console,
            f"{number(result.found_count, 'file')} compared by name, size and date.",
            indent=2,
        )
        show_findings(out, tuple(finding for finding in result.findings if finding.code == "not-seen"))
        console.print()
        return
    edition = f", edition {result.edition}" if result.edition > 1 else ""
    outcome = "Archived" if result.ok else "Archived WITH PROBLEMS:"
    text = Text(f"{outcome} {shown(result.name)} to {name}{edition}", style=GOOD if result.ok else BAD)
    rate = f", {size(int(result.archived_bytes / result.seconds))}/s" if result.seconds > 1 else ""
    counted = f": {number(result.archived_count, 'file')}, {size(result.archived_bytes)}"
    if result.changes is None:
        counted += ", each read back and compared"
    say(console, text.append(f"{counted} ({duration(result.seconds)}{rate})", style="not bold default"))
    for title, lines in (
        ("SQLite reports damage in these databases:", [f"{a}: {b}" for a, b in result.damaged_databases]),
        ("These appeared after the archive had begun and are not in it:", result.appeared_paths),
        ("Content changed without a new size or date:", result.silently_changed_paths),
        ("These changed after they were copied; archive the library again:", result.changed_paths),
    ):
        show_list(out, title, [shown(line) for line in lines], style=WARN)
    _show_repaired(out, result, name)
    _show_parts(out, result.parts)
    show_findings(out, result.findings)
    facts(console, list(_facts(result)))
    for extra in _extras(result):
        say(console, extra, indent=2)
    if result.left_out and before is not None and result.left_out == before.left_out:
        say(console, f"Left out: the same {number(len(result.left_out), 'file')}.", indent=2)
    else:
        _show_left(out, result.left_out)
    _show_names(out, result.changed_names)
    console.print()


def _show_repaired(out: Out, result: ArchiveResult, name: str) -> None:
    """Say what the chest had lost, and whether the library could give it back."""
    unseen = tuple(path for path, why in result.lost_files if why == NOT_SEEN_NOW)
    lost = tuple(path for path, why in result.lost_files if why != NOT_SEEN_NOW)
    for paths, words, style in (
        (result.repaired_paths, f"missing from {name} or of another size there; copied again", WARN),
        (lost, f"LOST from {name}; in the library they have changed since", BAD),
        (unseen, f"LOST from {name}, and not to be seen on this computer now", BAD),
    ):
        show_list(out, f"{number(len(paths), 'file')} {words}:", [shown(path) for path in paths], most=5, style=style)
    if unseen:
        say(
            out.console,
            f"-> From another chest that has them: dunechest mend {quoted(result.chest_label)} {quoted(result.archived_as)}",
            indent=2,
        )


def _facts(result: ArchiveResult) -> Iterator[tuple[str, str, str]]:
    """Yield what was copied and left out."""
    if result.changes is not None:
        yield (
            "copied",
            number(result.archived_count - result.unchanged_count, "file"),
            size(result.changes.added_bytes),
        )
    if result.unchanged_count:
        yield "unchanged", number(result.unchanged_count, "file"), "on the drive already"
    if result.not_seen_files:
        yield "not seen", number(len(result.not_seen_files), "file"), "kept as they were"
    if result.outside_count:
        words = f"{size(result.outside_bytes)}, stored outside the library"
        yield "outside", number(result.outside_count, "file"), words


def _extras(result: ArchiveResult) -> Iterator[str]:
    """Yield what else there is to say, a line each."""
    if result.changes is not None:
        yield changes_in_words(result.changes)
    if result.database_count:
        yield f"{number(result.database_count, 'database')} copied through SQLite, pending changes included."
    if result.link_count:
        yield f"{number(result.link_count, 'symbolic link')} recorded."
    if result.resumed_count:
        yield f"{number(result.resumed_count, 'file')} had been copied by a run that was interrupted."
    if result.reread_paths:
        yield f"{number(len(result.reread_paths), 'file')} changed while being read and had to be read again."


def show_total(out: Out, results: Sequence[ArchiveResult], chests: Sequence[Chest], seconds: float) -> None:
    """Show the closing total of several libraries, and the next step."""
    console = out.console
    wrong = len(out.problems)
    if len(results) > 1:
        libraries = len({result.name for result in results})
        files = sum(result.archived_count for result in results)
        count = sum(result.archived_bytes for result in results)
        checked = "archived and checked" if any(r.state != "unchanged" for r in results) else "unchanged"
        where = f" on {number(len(chests), 'chest')}" if len(chests) > 1 else ""
        text = (
            f"{number(libraries, 'library', 'libraries')}{where}, {number(files, 'file')}, {size(count)} {checked} in "
            f"{duration(seconds)}" + (f"; {number(wrong, 'problem')}" if wrong else "") + "."
        )
        say(console, text, BAD if wrong else "bold")
    label = quoted(chests[0].label)
    if not wrong and any(result.state != "unchanged" for result in results):
        say(console, f"Next: dunechest drill {label} (tests a restore)")
    elif not wrong:
        say(console, f"To check every byte: dunechest verify {label}")
