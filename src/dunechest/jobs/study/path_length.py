"""Whether this computer can take the paths that are to be made: on some a long path is no path at all."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from dunechest.findings import Finding
from dunechest.names import shown
from dunechest.paths import longest_here
from dunechest.words import number


def length_findings(folder: Path, paths: Iterable[str], advice: str) -> list[Finding]:
    """Stop before anything is written if paths would be longer than this computer takes.

    Parameters
    ----------
    folder : Path
        Where the files are to be made.
    paths : iterable of str
        Their paths below it.
    advice : str
        What else a person can do than have the system take long paths.
    """
    most = longest_here()
    if most is None:
        return []
    above = _length(str(folder)) + 1
    too_long = [path for path in paths if above + _length(path) > most]
    if not too_long:
        return []
    longest = max(too_long, key=len)
    return [
        Finding(
            "path-length",
            "blocks",
            f"{number(len(too_long), 'path')} would be longer than the {most} characters that this computer takes, the longest "
            f"by {above + _length(longest) - most}: {shown(longest)}.",
            f"{advice} Or have Windows take long paths: as administrator, reg add "
            "HKLM\\SYSTEM\\CurrentControlSet\\Control\\FileSystem /v LongPathsEnabled /t REG_DWORD /d 1, and sign in again.",
        )
    ]


def _length(path: str) -> int:
    """Return the length of a path as Windows counts it: in units of UTF-16."""
    return len(path) if path.isascii() else len(path.encode("utf-16-le", "surrogatepass")) // 2
