"""Notebooks: pictures and links in the text of a Jupyter notebook (nbformat 4), and paths written in its code."""

from __future__ import annotations

import json
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from dunechest.library.formats.base import Raw, UnreadableError, text_of
from dunechest.library.formats.markup import markdown_links
from dunechest.library.kinds.schema import References
from dunechest.regex import late

_MOST = 64 << 20
#: Text in quotation marks that can be a path: with a divider, or with an ending.
_QUOTED = late(r"""(?<![\w\\])[rRbBuU]?(["'])([^"'\n\\]{1,1000})\1""")
_PATH = late(r"[^\s<>|*?{}]*[^\s<>|*?{}/]/[^<>|*?{}]+|/[^<>|*?{}]+|[^/<>|*?{}]+\.[A-Za-z0-9]{1,8}")


def read_ipynb(path: Path, spec: References) -> Iterator[Raw]:
    """Read the links of text cells and the paths in code cells.

    What a cell has printed is not looked at, nor are pictures that are kept within a cell.
    """
    try:
        document = json.loads(text_of(path, _MOST))
    except (ValueError, RecursionError) as error:
        raise UnreadableError(f"it is not JSON: {error}") from error
    cells = document.get("cells") if isinstance(document, dict) else None
    for number, cell in enumerate(cells if isinstance(cells, list) else [], start=1):
        if not isinstance(cell, dict):
            continue
        source = _source(cell.get("source"))
        if cell.get("cell_type") == "markdown":
            for raw in markdown_links(source):
                if not raw.text.startswith("attachment:"):
                    yield raw._replace(spot=f"cell {number}, {raw.spot}")
        elif cell.get("cell_type") == "code":
            for found in _QUOTED.finditer(source):
                if _PATH.fullmatch(found.group(2)):
                    yield Raw(f"cell {number}", found.group(2))


def _source(value: Any) -> str:
    if isinstance(value, list):
        return "".join(piece for piece in value if isinstance(piece, str))
    return value if isinstance(value, str) else ""
