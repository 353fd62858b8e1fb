"""Windows: PowerShell shows a balloon; the texts are in the environment of a fixed script and no part of it."""

from __future__ import annotations

import os

_SCRIPT = """Add-Type -AssemblyName System.Windows.Forms
$icon = New-Object System.Windows.Forms.NotifyIcon
$icon.Icon = [System.Drawing.SystemIcons]::Warning
$icon.Visible = $true
$icon.ShowBalloonTip(10000, $env:DUNECHEST_TITLE, $env:DUNECHEST_TEXT, 'Warning')
Start-Sleep -Seconds 8
$icon.Dispose()
"""


def command(title: str, text: str) -> tuple[list[str], dict[str, str], str]:
    """Return the command, its environment and its standard input."""
    environment = {**os.environ, "DUNECHEST_TITLE": title, "DUNECHEST_TEXT": text}
    return ["powershell", "-NoProfile", "-NonInteractive", "-Command", _SCRIPT], environment, ""
