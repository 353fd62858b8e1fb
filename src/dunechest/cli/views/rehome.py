"""How a move to a drive is shown."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from rich.text import Text

from dunechest.cli.layout import BAD, GOOD, WARN, say
from dunechest.cli.output import Out, show_findings, show_list
from dunechest.findings import Finding
from dunechest.jobs.move.rehome import PartMovePlan, RehomePlan, RehomeResult, RejoinPlan, RejoinResult
from dunechest.names import quoted, shown
from dunechest.values import PathAndWhy
from dunechest.words import duration, number, size


def show_plan(out: Out, plan: RehomePlan, *, deleting: bool = False, more: Sequence[Finding] = ()) -> None:
    """Show what a move would do, with more findings; `deleting` if the original is to be deleted, which is then asked."""
    console = out.console
    name = shown(plan.name)
    if plan.blocked:
        say(console, f"{name} cannot be moved like this. Nothing was changed.", BAD)
    else:
        back = " back" if plan.back else ""
        say(console, f"Would move {name}{back}: {number(plan.file_count, 'file')}, {size(plan.size_bytes)}.", "bold")
    _places(out, plan.path, plan.new_path)
    show_findings(out, (*plan.findings, *more))
    if plan.blocked:
        return
    say(console, f"{size(plan.room.need)} needed there, {size(plan.room.free)} free.", indent=2)
    _way(out, plan)
    _original(out, plan.set_aside_path, "The original", deleting)
    _references(out, len(plan.reference_plan.updates), would=True)
    _not_moved(out, plan.unmoved_files)
    if not deleting:
        say(console, "This is a plan; nothing was changed.")


def _original(out: Out, aside: Path, what: str, deleting: bool) -> None:
    """Say what would become of what was moved."""
    if deleting:
        say(out.console, f"{what} would be deleted once the copy is proven.", "bold", indent=2)
    else:
        say(out.console, f"{what} would be set aside, not deleted:", indent=2)
        out.console.print(out.place(aside), soft_wrap=True)


def _places(out: Out, source: object, target: object) -> None:
    out.console.print(out.place(str(source)), soft_wrap=True)
    out.console.print(out.place(str(target), indent=6, before="-> "), soft_wrap=True)


def _way(out: Out, plan: RehomePlan) -> None:
    console = out.console
    if plan.settings:
        say(console, "The library location would be updated in:", indent=2)
        for change in plan.settings:
            console.print(out.place(change.file), soft_wrap=True)
    elif plan.back:
        say(console, "The application would find it in its old place again.", indent=2)
    else:
        say(console, "A link would stand in the old place, so that the application finds it:", indent=2)
        console.print(out.place(plan.old_path), soft_wrap=True)


def _references(out: Out, count: int, *, would: bool) -> None:
    if count:
        verb = "would be updated" if would else "updated"
        say(out.console, f"{number(count, 'path')} inside the library {verb}.", indent=2)


def _not_moved(out: Out, left: tuple[PathAndWhy, ...]) -> None:
    show_list(out, "Not moved:", [f"{shown(path)}: {shown(why)}" for path, why in left], most=5)


def show_part_plan(out: Out, plan: PartMovePlan, *, deleting: bool = False, more: Sequence[Finding] = ()) -> None:
    """Show what moving parts would do, as `show_plan` does."""
    console = out.console
    title = shown(plan.taken.title)
    if plan.blocked:
        say(console, f"{title} cannot be moved like this. Nothing was changed.", BAD)
    else:
        say(console, f"Would move {title}: {number(plan.file_count, 'file')}, {size(plan.size_bytes)}.", "bold")
    _places(out, plan.path, plan.new_path)
    show_findings(out, (*plan.findings, *more))
    if plan.blocked:
        return
    edits = ", ".join(shown(path) for path in plan.taken.edits[:3])
    if edits:
        say(console, f"It would be taken out of {edits}.", indent=2)
    _original(out, plan.set_aside_path, "What goes", deleting)
    if not deleting:
        say(console, "This is a plan; nothing was changed.")


def show(out: Out, result: RehomeResult, *, reclaim: bool) -> None:
    """Show what a move did."""
    console = out.console
    name = shown(result.name)
    what = f"{shown(', '.join(result.parts))} of {name}" if result.parts else name
    text = Text(f"Moved {what}{' back' if result.back else ''}", style=GOOD)
    told = (
        f": {number(result.file_count, 'file')}, {size(result.size_bytes)}, each read back "
        f"and compared ({duration(result.seconds)})"
    )
    text.append(told, style="not bold default")
    say(console, text)
    _places(out, result.path, result.new_path)
    show_findings(out, result.findings)
    application = shown(result.application) or "the application"
    for change in result.settings:
        say(console, "Updated the library location in:", indent=2)
        console.print(out.place(change.file), soft_wrap=True)
    if result.way == "link" and not result.back:
        say(console, "A link to it is in the old place:", indent=2)
        console.print(out.place(result.old_path), soft_wrap=True)
    _references(out, len(result.updated_references), would=False)
    lost = [f"{shown(item.file)}: {shown(item.text)}: {shown(item.action)}" for item in result.references_by_hand]
    show_list(out, f"{number(len(lost), 'path')} inside the library to look at yourself:", lost, most=5, style=WARN)
    _not_moved(out, result.unmoved_files)
    out.show_pairs("Files from outside the library:", [(old, str(new)) for old, new in result.outside_files])
    show_list(
        out, "Stay in the library, too, because others use them:", [shown(p) for p in result.shared_paths], most=5
    )
    if result.set_aside_path is not None and not reclaim:
        say(console, "The original was set aside; nothing was deleted:", indent=2)
        console.print(out.place(result.set_aside_path), soft_wrap=True)
        if result.parts:
            say(
                console,
                f"-> Look at both in {application}. To free the space: dunechest reclaim {quoted(str(result.set_aside_path))}",
                hang=3,
            )
        else:
            say(
                console,
                f"-> Start {application} and look. To free the space: dunechest reclaim {quoted(result.name)}",
                hang=3,
            )
            say(console, "-> To take all of it back: dunechest undo", hang=3)
    if not result.back and not result.parts:
        say(console, f"Connect the drive {shown(result.drive)} before you start {application}.")


def show_rejoin_plan(out: Out, plan: RejoinPlan) -> None:
    """Show what rejoining would do."""
    console = out.console
    if plan.nothing:
        say(console, f"Nothing to rejoin: {shown(plan.home.message)}", GOOD)
        return
    say(console, f"{shown(plan.name)}: {plan.home.message}", BAD if plan.blocked else "bold")
    console.print(out.place(plan.home.path), soft_wrap=True)
    show_findings(out, plan.findings)
    if plan.set_aside_path is not None:
        say(console, "The new one would be merged into it, and then set aside:", indent=2)
        console.print(out.place(plan.set_aside_path), soft_wrap=True)
    _finding_again(out, plan, would=True)
    say(console, "This is a plan; nothing was changed.")


def _finding_again(out: Out, plan: RejoinPlan, *, would: bool) -> None:
    for change in plan.settings:
        say(
            out.console,
            "The library location would be updated in:" if would else "Updated the library location in:",
            indent=2,
        )
        out.console.print(out.place(change.file), soft_wrap=True)
    if plan.link_before != plan.link_after:
        say(out.console, "The link in the old place would lead to it.", indent=2)


def show_rejoined(out: Out, result: RejoinResult, *, nothing: bool) -> None:
    """Show what rejoining did."""
    console = out.console
    if nothing:
        say(
            console,
            f"Nothing to rejoin: {shown(result.name)} is on the drive {shown(result.drive)}, and there is no other.",
            GOOD,
        )
        return
    text = Text(f"Rejoined {shown(result.name)}", style=GOOD)
    if result.second_path is not None:
        text.append(
            f": {number(result.added_count, 'file')} came over from the new library", style="not bold default"
        )
        if result.same_count:
            text.append(f", {number(result.same_count, 'file')} were there already", style="not bold default")
    say(console, text)
    console.print(out.place(result.path), soft_wrap=True)
    show_findings(out, result.findings)
    show_list(out, "Merged:", [shown(path) for path in result.merged_paths], most=5)
    out.show_pairs("Both had these; the new ones have another name:", result.renamed_files)
    show_list(
        out,
        "Kept as on the drive; the others are only in what was set aside:",
        [shown(p) for p in result.kept_paths],
        most=5,
        style=WARN,
    )
    for change in result.settings:
        say(console, "Updated the library location in:", indent=2)
        console.print(out.place(change.file), soft_wrap=True)
    if result.set_aside_path is not None:
        say(console, "The new library was set aside; nothing was deleted:", indent=2)
        console.print(out.place(result.set_aside_path), soft_wrap=True)
        say(console, "-> To take all of it back: dunechest undo", hang=3)
