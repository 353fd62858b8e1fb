"""Placeholders: the name is here, the bytes are not. Known from `os.stat` alone, so nothing is fetched by asking."""

from __future__ import annotations

import sys

if sys.platform == "win32":
    from dunechest.transfer._placeholder_windows import is_placeholder
elif sys.platform == "darwin":
    from dunechest.transfer._placeholder_macos import is_placeholder
else:
    from dunechest.transfer._placeholder_linux import is_placeholder

__all__ = ["is_placeholder"]
