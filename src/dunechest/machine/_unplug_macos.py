"""macOS: the command that unmounts a drive."""

from __future__ import annotations

from collections.abc import Iterator


def commands(mount: str, device: str, kind: str) -> Iterator[list[str]]:
    """Yield the one command."""
    yield ["diskutil", "unmount", mount]
