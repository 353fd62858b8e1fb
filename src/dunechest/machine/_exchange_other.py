"""Systems where no two names can change places in one moment."""

from __future__ import annotations


def exchange(first: str, second: str) -> bool:
    """Say that it cannot be done here."""
    return False
