"""Where this computer keeps its ledger, its settings and a person's own kind files."""

from __future__ import annotations

import os
from pathlib import Path

from dunechest.errors import no_home

#: Names another place for the ledger, settings and own kind files.
STATE = "DUNECHEST_HOME"


def state_folder() -> Path:
    """Return the folder of the ledger, settings and own kind files.

    ``DUNECHEST_HOME`` names another place; otherwise it is the system's usual one
    for an application's data.

    Raises
    ------
    UsageError
        If the system does not know the person's home folder.
    """
    named = os.environ.get(STATE)
    if named:
        return Path(named)
    import platformdirs

    try:
        return Path(platformdirs.user_data_dir("dunechest", appauthor=False))
    except RuntimeError as error:
        raise no_home() from error
