"""Typeset documents: what a LaTeX source takes in, shows and cites from."""

from __future__ import annotations

from collections.abc import Iterator
from pathlib import Path

from dunechest.library.formats.base import Raw, lines_of
from dunechest.library.kinds.schema import References
from dunechest.regex import late

_TEX = (".tex",)
#: In the order in which the programs try them.
_PICTURES = (".pdf", ".png", ".jpg", ".jpeg", ".eps", ".svg")
#: Commands whose last argument names a file, and the endings that may be left out.
_COMMANDS: dict[str, tuple[str, ...]] = {
    "input": _TEX,
    "include": _TEX,
    "subfile": _TEX,
    "includegraphics": _PICTURES,
    "includesvg": (".svg",),
    "includepdf": (".pdf",),
    "bibliography": (".bib",),
    "addbibresource": (),
    "lstinputlisting": (),
    "verbatiminput": (),
}
COMMAND = late(r"\\(" + "|".join(_COMMANDS) + r")\*?\s*(?:\[[^\]]*\]\s*)*\{([^{}]*)\}")
_REMARK = late(r"(?<!\\)%.*")


def read_latex(path: Path, spec: References) -> Iterator[Raw]:
    """Read what a LaTeX source names: texts, pictures, bibliographies; what stands behind ``%`` is a remark.

    A name that is made by a macro cannot be read.
    """
    for number, line in lines_of(path):
        for found in COMMAND.finditer(_REMARK.sub("", line)):
            command, names = found.groups()
            for name in names.split(",") if command == "bibliography" else [names]:
                text = name.strip().strip('"')
                if text and "\\" not in text and "#" not in text:
                    yield Raw(f"line {number}", text, endings=_COMMANDS[command], upwards=True)
