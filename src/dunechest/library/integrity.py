"""Whether what was restored is intact by its own rules: databases by SQLite, repositories by their version control."""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path

from dunechest.library.formats.sqlite import COMPANIONS, looks_like_database
from dunechest.names import shown
from dunechest.transfer.walk import Walk

#: Seconds that the check of one repository may take.
PATIENCE = 1800.0
#: Repositories and databases that are looked at, at most.
_MOST = 500
#: Nothing that a repository's own settings name is run, nothing is fetched, and no other settings are read.
_SETTINGS = (
    "-c", "core.fsmonitor=false", "-c", "core.hooksPath=/dev/null", "-c", "safe.directory=*", "-c", "protocol.allow=never",
    "--no-pager", "--no-replace-objects",
)  # fmt: skip
_ENVIRONMENT = {
    "GIT_CONFIG_NOSYSTEM": "1",
    "GIT_CONFIG_GLOBAL": os.devnull,
    "GIT_TERMINAL_PROMPT": "0",
    "GIT_NO_LAZY_FETCH": "1",
    "GIT_ALLOW_PROTOCOL": "none",
    "GIT_OPTIONAL_LOCKS": "0",
    "LC_ALL": "C",
}


def repositories_in(listing: Walk) -> list[str]:
    """Return the folders of a listing that hold the history of a repository, by what lies in them."""
    folders = {folder.path for folder in listing.folders}
    files = {file.path for file in listing.files if file.path.rpartition("/")[2] == "HEAD"}
    found = []
    for head in sorted(files):
        place, slash, _ = head.rpartition("/")
        if {f"{place}{slash}objects", f"{place}{slash}refs"} <= folders:
            found.append(place)
    return found[:_MOST]


def check_repository(place: Path, *, patience: float = PATIENCE) -> str | None:
    """Ask the version control itself whether a repository is intact.

    Parameters
    ----------
    place : Path
        The folder that holds the history.
    patience : float
        Seconds that it may take.

    Returns
    -------
    str or None
        Empty if it is, else what is wrong; None if that cannot be told: the program is not installed here, or it took too
        long.
    """
    import shutil
    import subprocess

    program = shutil.which("git")
    if program is None:
        return None
    environment = {name: value for name, value in os.environ.items() if not name.startswith("GIT_")} | _ENVIRONMENT
    order = [program, *_SETTINGS, f"--git-dir={place}", "fsck", "--full", "--no-progress", "--no-dangling"]
    try:
        ran = subprocess.run(
            order,
            cwd=place,
            env=environment,
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=subprocess.STDOUT,
            timeout=patience,
            check=False,
        )
    except (OSError, subprocess.TimeoutExpired):
        return None
    if ran.returncode == 0:
        return ""
    lines = [line for line in ran.stdout.decode("utf-8", "replace").split("\n") if line.strip()]
    wrong = [line for line in lines if line.startswith(("error", "fatal", "missing", "broken", "bad"))] or lines
    return shown("; ".join(wrong[:3])) or f"it ended with status {ran.returncode}"


def databases_in(place: Path, listing: Walk) -> Iterator[str]:
    """Yield the files of a library that begin as SQLite databases do."""
    count = 0
    for file in listing.files:
        # A database is whole pages of 512 bytes at the least, so hardly any other file is opened for this.
        if not file.size or file.size % 512 or file.placeholder or file.path.endswith(COMPANIONS):
            continue
        if looks_like_database(place / file.path):
            yield file.path
            count += 1
            if count == _MOST:
                return
