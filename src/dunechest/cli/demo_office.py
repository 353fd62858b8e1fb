"""The week of an office at Marram Point, told with the real commands and real servers."""

from __future__ import annotations

import sys
import time
from pathlib import Path

from dunechest.cli.demo_story import AstrayError, Scene, Teller
from dunechest.cli.layout import BAD, GOOD, homely, say
from dunechest.cli.output import Out
from dunechest.demo.office import COMPUTERS, OfficeWorld, Servers, make_office, servers
from dunechest.errors import UsageError
from dunechest.words import duration, number

_OFFICE, _LAPTOP, _HUT = COMPUTERS
_PASSWORD = "{python} -m dunechest.demo.password"


def tell_office(out: Out, folder: str) -> int:
    """Make the sample office, and go through its week.

    Raises
    ------
    UsageError
        If the folder holds something else.
    DuneChestError
        If the servers cannot be started.
    """
    begun = time.monotonic()
    try:
        world = make_office(Path(folder))
    except (FileExistsError, NotADirectoryError) as error:
        raise UsageError(str(error)) from error
    teller = Teller(out, world)
    teller.say(
        f"The office of Marram Point is set up in {homely(world.folder)}: three computers (office-pc, new-laptop, hut-pc), "
        "two drives (blue, sand), and in another town an SFTP server. All of it is made up; the servers are real, and run "
        "as long as the tour does."
    )
    with servers() as both:
        try:
            for scene in _week(world, both):
                teller.play(scene)
        except AstrayError:
            teller.say("The tour stops here, because this step did not end as expected.")
    out.document("demo", folder=str(world.folder), steps=teller.scenes)
    if out.shows:
        out.console.print()
        words = f"{number(len(teller.scenes), 'step')} in {duration(time.monotonic() - begun)}"
        say(out.console, f"{words}. More: docs/how-to/office.md", BAD if teller.astray else GOOD)
    return 1 if teller.astray else 0


def _week(world: OfficeWorld, both: Servers) -> list[Scene]:
    """Return the scenes of the week."""
    python = sys.executable

    def secret(name: str) -> str:
        return f"{_PASSWORD.format(python=python)} {name}"

    scenes = [
        Scene(
            "1. Monday. Whoever looks after the database server makes the office's ledger there.",
            _HUT,
            ("office", "set-up", both.ledger),
        )
    ]
    for place, name in enumerate(COMPUTERS):
        about = "2. Each computer is let in under a password of its own, and joins." if not place else ""
        scenes += [
            Scene(about, _HUT, ("office", "add", both.ledger, name, "--secret-from", secret(name))),
            Scene("", name, ("office", "join", both.ledger_for(name), "--password-from", secret(name))),
        ]
    return [*scenes, *_days(world, both)]


def _days(world: OfficeWorld, both: Servers) -> list[Scene]:
    papers = str(world.home(_OFFICE) / "Documents" / "Marram Papers")
    notes = str(world.home(_LAPTOP) / "Tide Notes")
    blue, sand = map(str, world.drives)
    back = str(world.home(_HUT) / "Tide Notes")
    return [
        Scene("3. Tuesday. Two computers archive what they have, each to its own drive.", _OFFICE,
              ("chest", "new", blue, "--label", "blue")),
        Scene("", _OFFICE, ("archive", papers, "--to", "blue")),
        Scene("", _LAPTOP, ("chest", "new", sand, "--label", "sand")),
        Scene("", _LAPTOP, ("archive", notes, "--to", "sand")),
        Scene("4. Both drives are in the same house. A chest in another town:", _OFFICE,
              ("chest", "new", both.barn, "--label", "barn")),
        Scene("", _OFFICE, ("copy", "blue", "barn", "--plan")),
        Scene("", _OFFICE, ("copy", "blue", "barn")),
        Scene("5. Is everything safe, on all computers? Not yet.", _HUT, ("status", "--office"), 1),
        Scene("6. Wednesday. The laptop's drive is copied there, too.", _LAPTOP, ("chest", "connect", both.barn)),
        Scene("", _LAPTOP, ("copy", "sand", "barn")),
        Scene("", _HUT, ("status", "--office")),
        Scene("7. Where is that note? Any computer can ask, whatever drive it is on.", _OFFICE,
              ("search", "notes.tide", "--office")),
        Scene("8. Thursday. The laptop is stolen, and the drive sand with it. It is shut out.", _HUT,
              ("office", "remove", both.ledger, _LAPTOP)),
        Scene("", _HUT, ("chest", "retire", "sand")),
        Scene("", _LAPTOP, ("office", "send"), 4),
        Scene("", _HUT, ("status", "--office"), 1),
        Scene("9. Friday. Its notes are restored on another computer, from the other town.", _HUT,
              ("chest", "connect", both.barn)),
        Scene("", _HUT, ("restore", "barn", "tide-notes", "--into", back)),
        Scene("10. And they get a second copy again.", _HUT, ("copy", "barn", "blue", "tide-notes")),
        Scene("", _HUT, ("verify", "barn")),
        Scene("", _HUT, ("status", "--office")),
        Scene("11. Who belongs to the office?", _HUT, ("office", "show")),
    ]  # fmt: skip
