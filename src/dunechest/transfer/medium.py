"""The medium behind a file: one set of functions, whatever the operating system.

`flush_file`, `flush_folder`, `flush_filesystem` bring bytes to the medium; `hand_over`
brings those of a file as far as a `flush_file` of another file on the same drive brings them there;
`forget`, `bypass` and `expect` decide whether a read asks the medium or the
memory; `rotates` tells a spinning disk.
"""

from __future__ import annotations

import sys

if sys.platform == "linux":
    from dunechest.transfer._medium_linux import (
        bypass,
        expect,
        flush_file,
        flush_filesystem,
        flush_folder,
        forget,
        hand_over,
        rotates,
    )
elif sys.platform == "win32":
    from dunechest.transfer._medium_windows import (
        bypass,
        expect,
        flush_file,
        flush_filesystem,
        flush_folder,
        forget,
        hand_over,
        rotates,
    )
else:
    from dunechest.transfer._medium_macos import (
        bypass,
        expect,
        flush_file,
        flush_filesystem,
        flush_folder,
        forget,
        hand_over,
        rotates,
    )

__all__ = ["bypass", "expect", "flush_file", "flush_filesystem", "flush_folder", "forget", "hand_over", "rotates"]
