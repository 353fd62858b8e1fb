"""What of a restored library names its old place: a warning, never a change."""

from __future__ import annotations

from dunechest.findings import Finding
from dunechest.library.still_named import OldPlace
from dunechest.model.findings import finding_of
from dunechest.names import shown

CODE = "old-place"


def old_place_findings(old: OldPlace, *, after: bool = False) -> list[Finding]:
    """Say which files name an old place, those that do it most first; before a restore, or `after` it."""
    if not old.files:
        return []
    most = sorted(old.files, key=lambda file: (-file.mention_count, file.path))
    some = ", ".join(f"{shown(file.path)} ({file.mention_count:,})" for file in most[:4]) + (
        ", ..." if len(most) > 4 else ""
    )
    verb = ("still name" if len(most) > 1 else "still names") if after else "will still name"
    return [
        finding_of("old-place", files=len(most), verb=verb, places=" and ".join(map(shown, old.paths)), some=some)
    ]
