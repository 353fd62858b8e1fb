"""What all readers of references have in common.

A reader takes the path of a file and the entry of the kind file, and yields what it
finds as text. It trusts nothing: sizes and lines are bounded, nothing is opened but
the file itself, and a file that is not what it should be is an `UnreadableError`.
"""

from __future__ import annotations

import os
from collections.abc import Iterator
from pathlib import Path
from typing import NamedTuple

from dunechest.errors import DuneChestError
from dunechest.transfer import safe

#: Bytes: a text that holds references is smaller, or it is something else.
MOST = 64 << 20
#: Seconds for a text that is read piece by piece. Parsers of markup go over a text made for
#: it again and again; whoever wrote it gets no more of a person's evening than this.
PATIENCE = 20.0
#: Bytes of one line; what is longer holds no path.
LONGEST = 64 << 10


class Raw(NamedTuple):
    """A reference as it is written.

    Attributes
    ----------
    spot : str
        Where in the file.
    text : str
        What is written there.
    uri : bool
        Whether that is a URI (RFC 3986).
    endings : tuple of str
        Endings that may be left out, in the order in which they are tried.
    upwards : bool
        Whether it may be relative to any folder above the file, too: to the one that holds the main document.
    anywhere : bool
        Whether a name alone is enough, wherever in the library the file lies; a page of that name may not be written yet.
    """

    spot: str
    text: str
    uri: bool = False
    endings: tuple[str, ...] = ()
    upwards: bool = False
    anywhere: bool = False

    def readings(self, base: str) -> Iterator[tuple[Raw, str]]:
        """Yield what it may mean, most likely first: a reference without such liberties, and the folder it is relative to."""
        bases = [base]
        while self.upwards and bases[-1]:
            bases.append(bases[-1].rpartition("/")[0])
        for above in bases:
            for ending in ("", *self.endings):
                yield Raw(self.spot, self.text + ending, self.uri), above


class UnreadableError(DuneChestError):
    """A file whose references could not be read; the message says why."""


def text_of(path: Path, most: int = MOST) -> str:
    """Read a whole text, as UTF-8 with or without byte order mark; odd bytes stay what they are.

    Parameters
    ----------
    path : Path
        The file.
    most : int
        Bytes that it may have.

    Raises
    ------
    UnreadableError
        If it cannot be read, or is too large.
    """
    try:
        content = safe.read_bounded(path, most)
    except (OSError, ValueError) as error:
        raise UnreadableError(f"it cannot be read: {getattr(error, 'strerror', None) or error}") from error
    return decoded(content)


def decoded(content: bytes) -> str:
    """Return bytes as text, UTF-16 by its mark, else UTF-8."""
    if content.startswith((b"\xff\xfe", b"\xfe\xff")):
        return content.decode("utf-16", "replace")
    return content.removeprefix(b"\xef\xbb\xbf").decode("utf-8", "surrogateescape")


def lines_of(path: Path) -> Iterator[tuple[int, str]]:
    """Yield numbers and lines of a text; of a line beyond all measure only that it was there.

    Raises
    ------
    UnreadableError
        If it cannot be read.
    """
    number = 0
    try:
        with os.fdopen(safe.open_regular(path), "rb") as file:
            while line := file.readline(LONGEST):
                number += 1
                if not line.endswith(b"\n") and len(line) == LONGEST:
                    while (rest := file.readline(LONGEST)) and not rest.endswith(b"\n"):
                        pass
                    continue
                text = line.removeprefix(b"\xef\xbb\xbf") if number == 1 else line
                yield number, text.decode("utf-8", "surrogateescape").rstrip("\r\n")
    except OSError as error:
        raise UnreadableError(f"it cannot be read: {error.strerror}") from error
