"""What a Python environment was made from: it can be made again as a whole, if that is known."""

from __future__ import annotations

import re
from collections.abc import Iterable
from pathlib import Path

from dunechest.library.kinds.schema import Kind
from dunechest.transfer import safe

#: What a project calls the list of the packages that it needs.
_LISTS = ("requirements.txt", "pyproject.toml", "setup.cfg", "environment.yml")


def is_environment(kind: Kind) -> bool:
    """Whether a library is a Python environment."""
    return kind.name == "environment"


def made_from(place: Path, folders: Iterable[str]) -> str:
    """Say in words what an environment was made from.

    Parameters
    ----------
    place : Path
        The environment.
    folders : iterable of str
        Its folders: those that end in ``.dist-info`` are packages (the packaging user guide, "Recording installed projects").
    """
    try:
        text = safe.read_bounded(place / "pyvenv.cfg", 1 << 16).decode("utf-8", "replace")
    except (OSError, ValueError):
        text = ""
    said = dict(re.findall(r"^\s*(\w+)\s*=\s*(.+?)\s*$", text, re.MULTILINE))
    version = said.get("version") or said.get("version_info") or "of an unknown version"
    names = sorted(
        found.group(1).replace("-", " ", 1)
        for folder in folders
        if (found := re.fullmatch(r"(?:.*/)?site-packages/([^/]+)\.dist-info", folder))
    )
    some = ", ".join(names[:6]) + (" ..." if len(names) > 6 else "")
    lists = [name for name in _LISTS if (place.parent / name).is_file()]
    beside = f"; beside it lies {' and '.join(lists)}" if lists else "; no list of them lies beside it"
    return f"Python {version} and {len(names):,} packages" + (f" ({some})" if names else "") + beside
