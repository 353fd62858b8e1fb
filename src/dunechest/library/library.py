"""A library on this computer, as a value."""

from __future__ import annotations

from pathlib import Path
from typing import Any, Literal

import msgspec

from dunechest.library.kinds.schema import Kind

#: The evidence of a library of which a person said what kind it is.
SAID = ("what you said",)


class Library(msgspec.Struct, frozen=True):
    """A library on this computer.

    Parameters
    ----------
    name : str
        Short name; what `find` shows and commands take.
    kind : Kind
        Its kind; the plain kind for whatever was named by path.
    path : Path
        The folder, or the single file.
    shape : {"folder", "file"}
        Which of the two.
    evidence : tuple of str
        What it was recognised by.
    """

    name: str
    kind: Kind
    path: Path
    shape: Literal["folder", "file"]
    evidence: tuple[str, ...] = ()

    def to_dict(self) -> dict[str, Any]:
        """Return the library as JSON values, its kind by name."""
        return {
            "name": self.name,
            "kind": self.kind.name,
            "path": str(self.path),
            "shape": self.shape,
            "evidence": list(self.evidence),
        }

    def __repr__(self) -> str:
        return f"<Library {self.name!r} ({self.kind.name}) in {str(self.path)!r}>"
