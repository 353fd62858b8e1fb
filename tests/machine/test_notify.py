"""Notifications: what the system's command is given, and that no text of theirs is more than text."""

from __future__ import annotations

import os
import sys
from pathlib import Path

import pytest

from dunechest.machine import _notify_linux, _notify_macos, _notify_windows, effort
from dunechest.machine.notify import notify

HOSTILE = 'a" with title "b\n--urgency=critical <b>bold</b> & $(touch pwned) `id` \x1b[31m; rm -rf ~'


@pytest.mark.skipif(not sys.platform.startswith("linux"), reason="Linux's own command")
def test_the_text_is_an_argument_and_no_markup(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    program = tmp_path / "bin" / "notify-send"
    program.parent.mkdir()
    said = tmp_path / "said"
    program.write_text(
        f"#!/bin/sh\nprintf '%s\\n' \"$@\" > '{said}'\necho \"$DBUS_SESSION_BUS_ADDRESS\" >> '{said}'\n"
    )
    program.chmod(0o755)
    monkeypatch.setenv("PATH", f"{program.parent}{os.pathsep}{os.environ['PATH']}")
    monkeypatch.setenv("DBUS_SESSION_BUS_ADDRESS", "unix:path=/nowhere")
    assert notify("--help", HOSTILE) == ""
    lines = said.read_text().splitlines()
    assert lines[:3] == ["--app-name=Dune Chest", "--", "--help"] and lines[-1] == "unix:path=/nowhere"
    body = "\n".join(lines[3:-1])
    assert "<" not in body and "\x1b" not in body and "&lt;b&gt;bold" in body and "$(touch pwned)" in body
    assert "\\\\x1b" in body, "the command reads backslashes, and would make an escape of it"
    program.write_text("#!/bin/sh\necho no desktop >&2\nexit 3\n")
    assert notify("a", "b") == "no desktop"
    program.unlink()
    monkeypatch.setenv("PATH", str(program.parent))
    assert "not on this computer" in notify("a", "b")


@pytest.mark.skipif(not hasattr(os, "getuid"), reason="only where there are user numbers")
def test_without_a_desktop_it_says_so(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.delenv("DBUS_SESSION_BUS_ADDRESS", raising=False)
    monkeypatch.setattr(os, "getuid", lambda: 987654)
    assert notify("a", "b") == "there is no desktop"
    assert _notify_linux.command("a", "b")[0] == []


def test_on_other_systems_too_the_texts_are_no_part_of_the_script() -> None:
    words, _, script = _notify_macos.command("title", HOSTILE)
    assert words == ["osascript", "-", "title", HOSTILE] and HOSTILE not in script and "argv" in script
    words, environment, given = _notify_windows.command("title", HOSTILE)
    assert HOSTILE not in " ".join(words) and environment["DUNECHEST_TEXT"] == HOSTILE and given == ""


class Battery:
    def __init__(self, plugged: bool | None) -> None:
        self.power_plugged = plugged


@pytest.mark.parametrize(("plugged", "mains"), [(True, True), (False, False), (None, True)])
def test_mains_power(plugged: bool | None, mains: bool, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("psutil.sensors_battery", lambda: Battery(plugged), raising=False)
    assert effort.on_mains() is mains
    monkeypatch.setattr("psutil.sensors_battery", lambda: None, raising=False)
    assert effort.on_mains()
