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
    "--in",
    "scratch",
    metavar="FOLDER",
    type=click.Path(),
    help="Where there is room for it; your cache folder by default.",
)
@common
def command(out: Out, chest: str, libraries: tuple[str, ...], scratch: str | None) -> int:
    """Rehearse a restore: all of it, into a scratch folder, which is thrown away.

    Every byte is read and proven, databases are checked, references followed, parts
    and counts compared with those of the archive. Only a copy that passed counts as
    proven; dunechest chest show says which have.
    """
    from dunechest.cli.output import say_recovered
    from dunechest.cli.views import restore as restore_view
    from dunechest.jobs.drill import drill
    from dunechest.jobs.named import resolve_chest

    source = resolve_chest(chest)
    say_recovered(out, source)
    with out.following() as progress:
        drills = drill(source, libraries, scratch=scratch, progress=progress)
    for one in drills:
        if one.result is not None:
            out.problem(*restore_view.problems(one.result))
        else:
            out.problem(f"{one.bag}: {one.why_not}")
    well = all(one.passed for one in drills)
    if out.json:
        documents = [
            {"passed": one.passed, "why_not": one.why_not, "bag": one.bag}
            | (restore_view.result_document(one.result) if one.result is not None else {})
            for one in drills
        ]
        out.document({"chest": source.id, "libraries": documents, "well": well})
    elif out.shows:
        for one in drills:
            _show(out, one)
    return 0 if well else 1


def _show(out: Out, one: Drill) -> None:
    from dunechest.cli.views import proof as proof_view
    from dunechest.cli.views import restore as restore_view
    from dunechest.names import shown
    from dunechest.words import duration

    if one.result is None:
        out.console.print(f"{shown(one.bag)}: DID NOT PASS", style="bold red")
        out.console.print(f"  {shown(one.why_not)}", style="red", soft_wrap=True)
        return
    words = "passed: a real restore would have worked" if one.passed else "DID NOT PASS"
    out.console.print(
        f"{shown(one.bag)}: {words}  ({duration(one.result.seconds)})",
        style="green" if one.passed else "bold red",
        soft_wrap=True,
    )
    proof_view.show(out, one.result.proof)
    restore_view.show_damage(out, one.result.damage)
    for gone in one.result.not_done:
        if gone.fault:
            out.console.print(f"  {shown(gone.path)}: {shown(gone.why)}", style="red", soft_wrap=True)
