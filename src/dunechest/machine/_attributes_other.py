"""Extended attributes where Python has no way to them: none are read, and none can be written."""

from __future__ import annotations


def read(path: bytes) -> tuple[tuple[str, str], ...]:
    """Return no attributes."""
    return ()


def write(path: bytes, name: str, value: str) -> str:
    """Say that it cannot be written."""
    return "this system gives no way to them"
