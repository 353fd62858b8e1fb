"""Seaholly: references with attachments."""

from __future__ import annotations

import re
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from dunechest.demo.applications.base import Application, Opened, RefusalError
from dunechest.demo.papers import HEADER
from dunechest.regex import late

_ENTRY = late(r"^@\w+\{(\w+),$(.*?)^\}$", re.MULTILINE | re.DOTALL)
_FILE = late(r"^\s*file = \{(.*)\},$", re.MULTILINE)


class Seaholly(Application):
    """The bibliography."""

    name = "seaholly"
    lock_mark = "papers.bib.open"

    @property
    def usual_place(self) -> Path:
        """Documents/References in the home folder."""
        return self.standard("documents") / "References"

    @contextmanager
    def _held(self, library: Path) -> Iterator[Opened]:
        bibliography = library / "papers.bib"
        if not bibliography.is_file() or not (library / "papers.files").is_dir():
            raise RefusalError(f"{library} is half a library: papers.bib and papers.files belong together.")
        with bibliography.open(encoding="utf-8") as file:
            try:
                text = file.read()
            except UnicodeDecodeError as error:
                raise RefusalError(f"The bibliography is broken: {error}.") from error
            if not text.startswith(HEADER) or text.count("{") != text.count("}"):
                raise RefusalError("The bibliography is broken: it does not end as it should.")
            things, missing = [], []
            for key, body in _ENTRY.findall(text):
                things.append(key)
                for name in _FILE.findall(body):
                    if not (library / name).is_file():
                        missing.append(name)
            yield Opened(
                library,
                {"references": len(things), "attachments": len(things) - len(missing)},
                tuple(things),
                tuple(missing),
            )
