"""``dunechest drill``."""

from __future__ import annotations

import click

from dunechest.cli.output import Out, common


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
    from dunechest.cli import proof_view
    from dunechest.cli.output import say_recovered
    from dunechest.cli.restore_view import result_document
    from dunechest.jobs.chests import resolve_chest
    from dunechest.jobs.drill import drill
    from dunechest.names import shown
    from dunechest.words import duration

    source = resolve_chest(chest)
    say_recovered(out, source)
    with out.following() as progress:
        drills = drill(source, libraries, scratch=scratch, progress=progress)
    well = all(one.passed for one in drills)
    if out.json:
        documents = [{"passed": one.passed, **result_document(one.result)} for one in drills]
        out.document({"chest": source.id, "libraries": documents, "well": well})
    elif out.shows:
        for one in drills:
            words = "passed: a real restore would have worked" if one.passed else "DID NOT PASS"
            out.console.print(
                f"{shown(one.bag)}: {words}  ({duration(one.result.seconds)})",
                style="green" if one.passed else "bold red",
                soft_wrap=True,
            )
            proof_view.show(out, one.result.proof)
            for gone in one.result.not_done:
                if gone.fault:
                    out.console.print(f"  {shown(gone.path)}: {shown(gone.why)}", style="red", soft_wrap=True)
    return 0 if well else 1
