"""Hollow files: the name is here, the bytes are not. Known from `os.stat` alone, so nothing is fetched by asking."""

from __future__ import annotations

import sys

if sys.platform == "win32":
    from dunechest.transfer._hollow_windows import hollow
elif sys.platform == "darwin":
    from dunechest.transfer._hollow_macos import hollow
else:
    from dunechest.transfer._hollow_linux import hollow

__all__ = ["hollow"]
