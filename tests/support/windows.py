"""What the tests need that Windows, or wine in its place, has not: they are skipped there, each with the reason."""

from __future__ import annotations

import os
import signal
import sys
import time
import traceback
from pathlib import Path
from typing import Any

import pytest

#: Tests by the beginning of their id, and what they need.
NEED: dict[str, str] = {}

_MODULES = (os, signal, time)
_PROGRAMS = ("sha512sum", "sh", "bash", "crontab", "systemctl", "man", "git", "cp", "true", "false", "sleep")
# ERROR_PRIVILEGE_NOT_HELD, ERROR_NOT_SUPPORTED, ERROR_BAD_EXE_FORMAT
_REFUSED = (1314, 50, 193)


def why_not(item: pytest.Item) -> str | None:
    """Return why a test cannot be run here, or None."""
    name = item.nodeid.replace("\\", "/")
    return next((why for start, why in NEED.items() if name.startswith(start)), None)


def needs_posix(error: BaseException) -> str | None:
    """Return what a test itself asked for that is not here; None if it failed for another reason, or in the program."""
    frames = traceback.extract_tb(error.__traceback__)
    inside = [frame for frame in frames if "dunechest" in Path(frame.filename).parts]
    if inside and "tests" not in Path(inside[-1].filename).parts:
        return None
    if isinstance(error, ModuleNotFoundError) and error.name in ("fcntl", "resource", "pwd", "grp", "termios", "pty"):
        return f"needs the module {error.name}"
    if isinstance(error, AttributeError) and getattr(error, "obj", None) in _MODULES:
        return f"needs {error.obj.__name__}.{error.name}"
    if isinstance(error, AttributeError) and "<module 'os'" in str(error):
        return "needs a call of POSIX"
    if isinstance(error, OSError) and getattr(error, "winerror", None) in _REFUSED:
        return f"needs what this system refuses: {error}"
    return None


def no_links(*words: Any, **more: Any) -> None:
    """Stand for the making of symbolic links, which needs a privilege on Windows and is unknown to wine."""
    if "tests" in Path(sys._getframe(1).f_code.co_filename).parts:
        pytest.skip("needs symbolic links")
    raise OSError(22, "symbolic links are not to be had", None, 1314)


def take_away() -> None:
    """Have tests that need what is not here be skipped."""
    if sys.platform == "win32":
        os.symlink = no_links  # type: ignore[assignment]
        Path.symlink_to = no_links  # type: ignore[assignment,method-assign]
