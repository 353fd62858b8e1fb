"""How the freeing of space is shown."""

from __future__ import annotations

from rich.text import Text

from dunechest.cli.layout import BAD, GOOD, WARN, say
from dunechest.cli.output import Out, show_findings, show_list
from dunechest.jobs.move.reclaim import Evidence, ReclaimPlan, ReclaimResult
from dunechest.names import shown
from dunechest.words import ago, duration, number, size


def show_plan(out: Out, plan: ReclaimPlan, *, asking: bool = False) -> None:
    """Show what would be deleted, and what this relies on; `asking` if that is asked next."""
    console = out.console
    what = _what(plan.name, plan.what, plan.parts)
    if plan.blocked:
        say(console, f"{what} cannot be deleted now. Nothing was changed.", BAD)
    else:
        verb = "Would move to the trash" if plan.options.trash else "Would delete"
        text = Text(
            f"{verb} {_lower(what)}: {number(plan.file_count, 'file')}, {size(plan.size_bytes)}.", style="bold"
        )
        say(console, text)
    console.print(out.place(plan.path), soft_wrap=True)
    if plan.in_use_path is not None:
        say(console, "The library itself stays, here:", indent=2)
        console.print(out.place(plan.in_use_path), soft_wrap=True)
    show_findings(out, plan.findings)
    for copy in plan.copies:
        if copy.counts:
            say(console, _copy(copy), indent=2, hang=2)
    if plan.blocked:
        return
    if plan.first_checked_labels:
        say(console, f"First checked in full: {shown(', '.join(plan.first_checked_labels))}.", indent=2)
    if plan.first_drilled_label:
        say(console, f"First drilled: {shown(plan.first_drilled_label)}.", indent=2)
    if plan.disk_bytes:
        say(
            console,
            f"That would free about {size(plan.disk_bytes)}{' when the trash is emptied' if plan.options.trash else ''}.",
            indent=2,
        )
    stays = [f"{shown(path)}: {shown(why)}" for path, why in plan.kept_files]
    show_list(out, "Stays:", stays, most=5)
    if plan.restore_command:
        say(console, f"To get it again: {plan.restore_command}", indent=2, hang=2)
    if not asking:
        say(console, "This is a plan; nothing was changed.")


def _what(name: str, what: str, parts: tuple[str, ...]) -> str:
    if what == "set-aside":
        return f"The original of {shown(name)} that was set aside"
    return f"{shown(', '.join(parts))} of {shown(name)}" if parts else f"The original of {shown(name)}"


def _lower(text: str) -> str:
    return text.replace("The original", "the original", 1)


def _copy(copy: Evidence) -> str:
    line = f"Copy in {shown(copy.label)}: edition {copy.edition}, archived {ago(copy.archived_at)}"
    line += f", fully checked {ago(copy.checked_at)}" if copy.checked_at is not None else ", not fully checked since"
    return line + (f", passed a drill {ago(copy.drilled_at)}" if copy.drilled_at is not None else "")


def show(out: Out, result: ReclaimResult) -> None:
    """Show what was deleted, and how much room that made."""
    console = out.console
    what = _lower(_what(result.name, result.what, result.parts))
    verb = "Moved to the trash" if result.to_trash else "Deleted"
    text = Text(f"{verb}: {what}", style=GOOD)
    text.append(
        f", {number(result.deleted_count, 'file')}, {size(result.deleted_bytes)} ({duration(result.seconds)})",
        style="not bold default",
    )
    say(console, text)
    console.print(out.place(result.path), soft_wrap=True)
    if result.freed_bytes:
        say(console, f"{size(result.freed_bytes)} more are free on the disk now (measured).", "bold", indent=2)
    else:
        little = "" if result.why_less else "; it was too little to measure"
        say(
            console,
            f"The disk has no more free space than before (measured){little}.",
            WARN if result.why_less else "",
            indent=2,
        )
    if result.why_less:
        say(console, f"-> {result.why_less[:1].upper()}{result.why_less[1:]}.", indent=4, hang=3)
    if result.in_use_path is not None:
        say(console, "The library is here:", indent=2)
        console.print(out.place(result.in_use_path), soft_wrap=True)
    if result.checked_labels:
        chests = shown(", ".join(result.checked_labels))
        say(console, f"Every byte of the original and of the copies in {chests} was read just before.", indent=2)
    show_findings(out, result.findings)
    stays = [f"{shown(path)}: {shown(why)}" for path, why in result.kept_files]
    show_list(out, "Stays:", stays, most=10)
    show_list(out, "Deleted outside the library, too:", [shown(path) for path in result.outside_paths], most=5)
    if result.restore_command:
        say(console, f"To get it again: {result.restore_command}", hang=2)
