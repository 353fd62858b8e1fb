"""The name and version of this library."""

from __future__ import annotations


def version_number() -> str:
    """Return this library's version; empty when it runs from a source folder that is not installed."""
    from importlib.metadata import PackageNotFoundError
    from importlib.metadata import version as installed

    try:
        return installed("dunechest")
    except PackageNotFoundError:
        return ""


def version() -> str:
    """Return this library's name and version, as records carry it."""
    from importlib.metadata import PackageNotFoundError
    from importlib.metadata import version as installed

    try:
        return f"dunechest {installed('dunechest')}"
    except PackageNotFoundError:  # run from a source folder
        return "dunechest"
