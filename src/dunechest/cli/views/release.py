"""How the release of a drive is shown."""

from __future__ import annotations

from dunechest.cli.layout import BAD, GOOD, WARN, say
from dunechest.cli.output import Out, show_findings, show_list
from dunechest.model.release import ReleaseResult
from dunechest.names import quoted, shown

_STYLES = {"released": GOOD, "fixed": GOOD, "in-use": BAD, "shared": BAD, "flushed": WARN}
#: Exit status by outcome: 3 says that it is not time yet.
STATUS = {"released": 0, "fixed": 0, "in-use": 3, "shared": 3, "flushed": 1}


def show(out: Out, result: ReleaseResult) -> None:
    """Show whether a drive may be unplugged."""
    console = out.console
    say(console, result.message, _STYLES[result.outcome])
    console.print(out.place(result.drive), soft_wrap=True)
    for name in result.finished_libraries:
        say(console, f"An interrupted change of {shown(name)} was finished first.", indent=2)
    users = [f"{shown(user.name)} (process {user.process_id}): {shown(user.path)}" for user in result.users]
    show_list(out, "Used by:", users, most=8)
    if result.outcome == "in-use":
        again = f"dunechest release {quoted(result.label)}"
        say(console, f"-> Close that, then once more: {again}", indent=2, hang=3)
    if result.why:
        say(console, f"The system says: {shown(result.why)}", indent=2, hang=2)
    if result.outcome == "flushed" and result.command:
        say(console, f"-> Unmount it in your file manager; or, as administrator: {result.command}", indent=2, hang=3)
    show_findings(out, result.findings)
