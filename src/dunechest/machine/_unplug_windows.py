"""Windows: the command that ejects a drive, as the taskbar does it; the drive is in the environment of a fixed script."""

from __future__ import annotations

from collections.abc import Iterator

_SCRIPT = "& { param($drive) (New-Object -ComObject Shell.Application).Namespace(17).ParseName($drive).InvokeVerb('Eject'); Start-Sleep 4 }"  # noqa: E501


def commands(mount: str, device: str, kind: str) -> Iterator[list[str]]:
    """Yield the one command."""
    letter = mount[:2]
    if len(letter) == 2 and letter[0].isalpha() and letter[1] == ":":
        yield ["powershell", "-NoProfile", "-NonInteractive", "-Command", _SCRIPT, letter]
