"""Whether this computer can take the paths that are to be made: on some a long path is no path at all."""

from __future__ import annotations

from collections.abc import Iterable
from pathlib import Path

from dunechest.findings import Finding
from dunechest.model.findings import finding_of
from dunechest.paths import longest_here


def length_findings(folder: Path, paths: Iterable[str], key: str = "path-length") -> list[Finding]:
    """Stop before anything is written if paths would be longer than this computer takes.

    Parameters
    ----------
    folder : Path
        Where the files are to be made.
    paths : iterable of str
        Their paths below it.
    key : str
        Which finding of the catalogue says it.
    """
    most = longest_here()
    if most is None:
        return []
    above = _length(str(folder)) + 1
    too_long = [path for path in paths if above + _length(path) > most]
    if not too_long:
        return []
    longest = max(too_long, key=len)
    over = above + _length(longest) - most
    return [finding_of(key, paths=len(too_long), most=most, over=over, longest=longest)]


def _length(path: str) -> int:
    """Return the length of a path as Windows counts it: in units of UTF-16."""
    return len(path) if path.isascii() else len(path.encode("utf-16-le", "surrogatepass")) // 2
