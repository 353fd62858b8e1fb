"""The application's setting that names a library: read in JSON, TOML and INI files."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

from dunechest.library.formats.base import UnreadableError
from dunechest.library.formats.keyed import document_of, values


def form_of(file: Path) -> str:
    """Return how a file of settings is written, by its ending."""
    return {".json": "json", ".ini": "ini"}.get(file.suffix, "toml")


def setting_in(file: Path, key: str, form: str = "") -> str | None:
    """Return what a setting says; empty if it says nothing, None if its file cannot be understood."""
    if not os.path.lexists(file):
        return ""
    try:
        document: Any = document_of(Path(os.path.realpath(file)), form or form_of(file))
    except UnreadableError:
        return None
    return next((text for _, text in values(document, tuple(key.split(".")), ())), "")
