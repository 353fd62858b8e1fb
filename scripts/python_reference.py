"""Write docs/python.md from the docstrings: every public name, with its signature and its first sentence.

With --check nothing is written; the exit status is 1 if the page is not what it would be.
"""

from __future__ import annotations

import inspect
import sys
from pathlib import Path
from typing import Any

from _pages import keep

import dunechest

PAGE = Path(__file__).resolve().parents[1] / "docs" / "python.md"

HEAD = """# The Python interface

Made by `make docs` from the docstrings. `help(dunechest.NAME)` shows each in full.

For each job there is `plan_x()`, which decides and changes nothing; `carry_out()`, which does what a plan says; and
`x()` for both in one call. Libraries and chests are given as values, by path, or by name; where several are asked for,
one alone is taken as one. Every plan and every result has `to_dict()`, and `to_frame()` where it is a table.

```python
import dunechest

chest = dunechest.get_chest("/media/blue")
for result in dunechest.archive(["/home/tern/Pictures/Dune Survey"], chest):
    print(result.name, result.archived_count, result.ok)
options = dunechest.ArchiveOptions(name="survey-again", read_all=True)
try:
    dunechest.archive("/home/tern/Pictures/Dune Survey", chest, options)
except dunechest.RefusedError as error:
    print([finding.code for finding in error.findings])
plans = dunechest.plan_restores(chest, "dune-survey", dunechest.RestoreOptions(into="/home/tern/back"))
for plan in plans:
    print(plan.to_dict()["path"], dunechest.carry_out(plan))
```
"""

GROUPS = (
    ("Functions", inspect.isfunction),
    ("Errors", lambda value: isinstance(value, type) and issubclass(value, Exception)),
    (
        "Options",
        lambda value: (
            value.__name__ in ("ArchiveOptions", "RestoreOptions", "RehomeOptions", "ReclaimOptions", "Choice")
        ),
    ),
    ("Plans", lambda value: hasattr(value, "decisions")),
    ("Results", lambda value: hasattr(value, "to_dict") and value.__name__ != "Chest"),
    ("What plans and results are made of", lambda value: True),
)


def first_sentence(value: Any) -> str:
    """Return the first paragraph of a docstring, in one line."""
    paragraph = (inspect.getdoc(value) or "").partition("\n\n")[0]
    return " ".join(paragraph.split())


def signature(name: str, value: Any) -> str:
    """Return a function's signature as it is written in the source."""
    parameters = []
    star = False
    for parameter in inspect.signature(value).parameters.values():
        if parameter.kind is parameter.KEYWORD_ONLY and not star:
            parameters.append("*")
            star = True
        parameters.append(parameter.name + ("=" if parameter.default is not parameter.empty else ""))
    return f"{name}({', '.join(parameters)})"


def page() -> str:
    """Return the whole page."""
    names = [name for name in dunechest.__all__ if not name.startswith("__")]
    left = {name: getattr(dunechest, name) for name in names}
    lines = [HEAD]
    for title, belongs in GROUPS:
        group = {name: value for name, value in left.items() if belongs(value)}
        lines.append(f"\n## {title}\n")
        for name, value in sorted(group.items()):
            shown = signature(name, value) if inspect.isfunction(value) else name
            lines.append(f"- `{shown}`: {first_sentence(value)}")
            del left[name]
    return "\n".join(lines) + "\n"


def main() -> int:
    """Write the page, or compare it."""
    return keep(PAGE.parent, ".md", {PAGE.name: page()})


if __name__ == "__main__":
    sys.exit(main())
