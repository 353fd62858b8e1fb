"""Linux: ``notify-send``, over the person's own message bus."""

from __future__ import annotations

import os
from pathlib import Path

from dunechest.machine._accounts import own_number


def command(title: str, text: str) -> tuple[list[str], dict[str, str], str]:
    """Return the command, its environment and its standard input; no command where there is no message bus."""
    environment = dict(os.environ)
    if not environment.get("DBUS_SESSION_BUS_ADDRESS"):
        # What cron starts knows nothing of the desktop; the bus of a session is in its usual place.
        bus = Path(f"/run/user/{own_number()}/bus")
        if not bus.exists():
            return [], environment, ""
        environment["DBUS_SESSION_BUS_ADDRESS"] = f"unix:path={bus}"
    # The body may hold markup (Desktop Notifications Specification), and the command reads backslashes in it as C does: what
    # looks like either is escaped.
    body = text.replace("\\", "\\\\")
    body = body.replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;")
    return ["notify-send", "--app-name=Dune Chest", "--", title, body], environment, ""
