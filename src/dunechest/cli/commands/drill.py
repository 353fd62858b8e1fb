"""``dunechest drill``."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from dunechest.cli.output import Out, common

if TYPE_CHECKING:
    from dunechest.jobs.drill import Drill


@click.command("drill")
@click.argument("chest", metavar="CHEST")
@click.argument("libraries", metavar="[LIBRARY]...", nargs=-1)
@click.option(
    "--scratch",
    "scratch",
    metavar="FOLDER",
    type=click.Path(),
    help="A folder with enough space; your cache folder by default.",
)
@common
def command(out: Out, chest: str, libraries: tuple[str, ...], scratch: str | None) -> int:
    """Test a restore: restore everything to a scratch folder, check it, and delete it.

    Every byte is read and checked, databases are tested, references are followed, and
    parts and counts are compared with the archive. A library that passed a drill is
    proven, until a check fails; `dunechest chest show` says which are.
    """
    from dunechest.cli.output import say_recovered
    from dunechest.cli.views import restore as restore_view
    from dunechest.jobs.drill import drill
    from dunechest.jobs.named import resolve_chest

    source = resolve_chest(chest)
    say_recovered(out, source)
    with out.following() as progress:
        drills = drill(source, libraries, scratch=scratch, progress=progress)
    for item in drills:
        if item.result is not None:
            out.problem(*restore_view.problems(item.result))
        else:
            out.problem(f"{item.bag}: {item.why_not}")
    well = all(item.passed for item in drills)
    if out.json:
        documents = [
            {"passed": item.passed, "why_not": item.why_not, "bag": item.bag}
            | (restore_view.result_document(item.result) if item.result is not None else {})
            for item in drills
        ]
        out.document({"chest": source.id, "libraries": documents, "well": well})
    elif out.shows:
        for item in drills:
            _show(out, item)
    return 0 if well else 1


def _show(out: Out, result: Drill) -> None:
    from dunechest.cli.views import proof as proof_view
    from dunechest.cli.views.restore_lists import show_damage
    from dunechest.names import shown
    from dunechest.words import duration

    if result.result is None:
        out.console.print(f"{shown(result.bag)}: DID NOT PASS", style="bold red")
        out.console.print(f"  {shown(result.why_not)}", style="red", soft_wrap=True)
        return
    words = "passed: a real restore would have worked" if result.passed else "DID NOT PASS"
    out.console.print(
        f"{shown(result.bag)}: {words}  ({duration(result.result.seconds)})",
        style="green" if result.passed else "bold red",
        soft_wrap=True,
    )
    proof_view.show(out, result.result.proof)
    show_damage(out, result.result.damage)
    for gone in result.result.not_done:
        if gone.fault:
            out.console.print(f"  {shown(gone.path)}: {shown(gone.why)}", style="red", soft_wrap=True)
