"""How a library that was looked at is shown, and the drive it is to go to."""

from __future__ import annotations

from rich.text import Text

from dunechest.cli.layout import BAD, DIM, GOOD, columns, say
from dunechest.cli.output import Out, limited, show_findings
from dunechest.findings import blocking
from dunechest.model.look import DriveFit, Readiness
from dunechest.names import quoted, shown
from dunechest.words import number, size

_ROLES = {
    "essential": "cannot be replaced",
    "rebuildable": "the application can rebuild it",
    "must-not-leave": "bought or licensed, not archived",
}
_LEADS = (
    "inside the library",
    "to files stored elsewhere",
    "to missing files",
    "to the web",
    "to folders outside it",
)


def show(out: Out, result: Readiness) -> None:
    """Show `look`: the verdict and findings first, then what is in the library."""
    console = out.console
    library, kind = result.library, result.library.kind
    name = shown(library.name)
    if blocking(result.findings):
        say(console, f"{name} cannot be archived yet.", BAD)
    elif any(finding.severity == "warning" for finding in result.findings):
        say(console, f"{name} can be archived; read the warnings first.", "bold")
    else:
        say(console, f"{name} can be archived: no problems found.", GOOD)
    console.print(out.place(library.path), soft_wrap=True)
    application = f", {shown(kind.application)}" if kind.application else ""
    evidence = "; ".join(shown(sign) for sign in library.evidence)
    say(console, f"{shown(kind.title)}{application}; recognised by {evidence}", DIM, indent=4)
    if result.drive is not None:
        _show_fit(out, result.drive)
    show_findings(out, result.findings)
    _show_roles(out, result)
    _show_parts(out, result)
    if not result.parts or out.verbose:
        _show_largest(out, result)


def _show_fit(out: Out, fit: DriveFit) -> None:
    line = Text("on ")
    line.append(shown(fit.chest.label), style="bold")
    line.append(f" ({shown(fit.drive.place.type)}): {size(fit.needed_bytes)} needed, {size(fit.free_bytes)} free")
    if fit.bytes_per_second:
        line.append(f", writes {size(int(fit.bytes_per_second))}/s")
    say(out.console, line, indent=4)


def _table(out: Out, rows: list[tuple[str, ...]], *, right: tuple[int, ...], total: bool = False) -> None:
    """Show rows in columns, the first being their names and the last a sum, if there is one."""
    lines = columns(rows, right=right)
    for place, line in enumerate(lines):
        last = total and place == len(lines) - 1
        say(out.console, line, DIM if place == 0 else "bold" if last else "", indent=2, hang=4)


def _show_roles(out: Out, result: Readiness) -> None:
    rows: list[tuple[str, ...]] = [("what it contains", "files", "size")]
    rows += [
        (f"{r.role}: {_ROLES[r.role]}", f"{r.file_count:,}", size(r.size_bytes)) for r in result.roles if r.file_count
    ]
    rows.append(("total", f"{result.file_count:,}", size(result.size_bytes)))
    out.console.print()
    _table(out, rows, right=(1, 2), total=True)
    counted = (
        number(result.folder_count - 1, "folder") if result.folder_count > 1 else "",
        number(result.link_count, "symbolic link") if result.link_count else "",
    )
    told = ", ".join(filter(None, counted))
    if told:
        say(out.console, f"also {told}", indent=2)
    if result.references:
        words = ", ".join(f"{n:,} {what}" for n, what in zip(result.reference_total, _LEADS, strict=True) if n)
        say(out.console, f"{number(len(result.references), 'reference')}: {words}", indent=2)


def _show_parts(out: Out, result: Readiness) -> None:
    if not result.parts:
        return
    some, more = limited(result.parts, out.verbose, 8)
    # What comes from a disk stands last: terminals disagree about how wide some characters are.
    rows: list[tuple[str, ...]] = [("files", "outside", "size", "part")]
    for part in some:
        outside = f"{len(part.outside_paths):,}" if part.outside_paths else ""
        rows.append(
            (f"{len(part.files):,}", outside, size(part.size_bytes), f"{shown(part.what)} {shown(part.title)}")
        )
    if all(not row[1] for row in rows[1:]):
        rows[0] = ("files", "", "size", "part")
    out.console.print()
    _table(out, rows, right=(0, 1, 2))
    if more:
        say(out.console, f"and {more:,} more (--verbose shows all)", indent=2)
    name = quoted(result.library.name)
    say(out.console, f"To archive one part: dunechest archive {name} --part PART --to CHEST", indent=2)


def _show_largest(out: Out, result: Readiness) -> None:
    if not result.largest_items:
        return
    rows: list[tuple[str, ...]] = [("files", "size", "role", "largest items")]
    rows += [
        (f"{item.file_count:,}", size(item.size_bytes), item.role, shown(item.path)) for item in result.largest_items
    ]
    out.console.print()
    _table(out, rows, right=(0, 1))
