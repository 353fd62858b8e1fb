"""What operating systems leave in folders that somebody looked into, byte for byte as it begins there."""

from __future__ import annotations

from pathlib import Path

DS_STORE = b"\x00\x00\x00\x01Bud1\x00\x00\x10\x00" + bytes(100)
BESIDE = b"\x00\x05\x16\x07\x00\x02\x00\x00Mac OS X        " + bytes(60)
THUMBS = b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1" + bytes(500)
DESKTOP_INI = "\ufeff[.ShellClassInfo]\r\nIconResource=C:\\shell.dll,3\r\n".encode("utf-16-le")
DIRECTORY = b"[Settings]\nTimestamp=2026,11,26,9,0,0\n"

FILES = {
    ".DS_Store": DS_STORE,
    "._rope.txt": BESIDE,
    "Thumbs.db": THUMBS,
    "desktop.ini": DESKTOP_INI,
    ".directory": DIRECTORY,
}


def litter(folder: Path) -> list[Path]:
    """Leave in a folder what systems leave in it; return what was left."""
    for name, content in FILES.items():
        (folder / name).write_bytes(content)
    return [folder / name for name in FILES]


def litter_drive(top: Path) -> None:
    """Leave at the top of a drive what systems keep of it."""
    litter(top)
    for name in (
        ".Spotlight-V100/Store-V2",
        ".fseventsd",
        ".Trashes/501",
        "System Volume Information",
        "$RECYCLE.BIN/S-1-5",
    ):
        (top / name).mkdir(parents=True)
        (top / name / "entry").write_text("of the system")
