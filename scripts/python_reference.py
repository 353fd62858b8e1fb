"""Write docs/python.md from the docstrings: every public name, with types, defaults and fields, and its first sentence.

With --check nothing is written; the exit status is 1 if the page is not what it would be.
"""

from __future__ import annotations

import importlib
import inspect
import sys
from pathlib import Path
from typing import Any

import msgspec
from _pages import keep

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

#: The public modules, in the order of the page.
DOORS = ("dunechest", "dunechest.kinds", "dunechest.routines", "dunechest.offices", "dunechest.chests", "dunechest.places",
         "dunechest.plans", "dunechest.errors", "dunechest.model")  # fmt: skip


def first_paragraph(value: Any) -> str:
    """Return the first paragraph of a docstring, in one line."""
    paragraph = (inspect.getdoc(value) or "").partition("\n\n")[0]
    return " ".join(paragraph.split())


def written(hint: Any) -> str:
    """Return a type as a person writes it."""
    return (
        hint
        if isinstance(hint, str)
        else getattr(hint, "__forward_arg__", None) or getattr(hint, "__name__", str(hint))
    )


def default_of(value: Any) -> str:
    """Return a default as a person writes it: an option's usual value by its type."""
    if isinstance(value, msgspec.Struct):
        return f"{type(value).__name__}()" if value == type(value)() else "..."
    if inspect.isfunction(value) or inspect.isclass(value):
        return value.__name__
    return repr(value) if isinstance(value, str | int | float | bool | tuple | type(None)) else "..."


def signature(name: str, value: Any) -> str:
    """Return a function's signature with types and defaults."""
    told = inspect.signature(value)
    parameters = []
    star = False
    for parameter in told.parameters.values():
        if parameter.kind is parameter.KEYWORD_ONLY and not star:
            parameters.append("*")
            star = True
        default = "" if parameter.default is parameter.empty else f" = {default_of(parameter.default)}"
        parameters.append(f"{parameter.name}: {written(parameter.annotation)}{default}")
    return f"{name}({', '.join(parameters)}) -> {written(told.return_annotation)}"


def fields(value: type) -> list[str]:
    """Return the fields of a value with types and defaults, and the properties that its document has, too."""
    hints = inspect.get_annotations(value)
    own = getattr(value, "__struct_fields__", getattr(value, "_fields", ()))
    defaults = dict(getattr(value, "_field_defaults", {}))
    if hasattr(value, "__struct_fields__"):
        last = value.__struct_defaults__
        defaults = dict(zip(own[len(own) - len(last) :], last, strict=True))
    lines = []
    for name in own:
        if not name.startswith("_") and name in hints:
            default = (
                f" = {default_of(defaults[name])}"
                if name in defaults and defaults[name] is not msgspec.NODEFAULT
                else ""
            )
            lines.append(f"    - `{name}: {written(hints[name])}{default}`")
    # Those that it shares with other values are its own, too.
    every = [
        pair for base in value.__mro__ if base.__module__.startswith("dunechest.") for pair in vars(base).items()
    ]
    for name, member in every:
        if isinstance(member, property) and not name.startswith("_"):
            lines.append(f"    - `{name}: {written(member.fget.__annotations__['return'])}`, read only")
    return lines


def page() -> str:
    """Return the whole page."""
    lines = [HEAD]
    seen: set[str] = set()
    for name in DOORS:
        module = importlib.import_module(name)
        names = [own for own in public_names(module) if not own.startswith("__") and own not in seen]
        found = {own: getattr(module, own) for own in names}
        lines.append(f"\n## {name}\n\n{first_paragraph(module)}\n")
        for own, value in sorted(found.items(), key=lambda item: (not inspect.isfunction(item[1]), item[0])):
            if inspect.ismodule(value):
                continue
            seen.add(own)
            shown = signature(own, value) if inspect.isfunction(value) else own
            lines.append(f"- `{shown}`: {first_paragraph(value)}")
            if isinstance(value, type) and not issubclass(value, Exception):
                lines += fields(value)
    return "\n".join(lines) + "\n"


def public_names(module: Any) -> list[str]:
    """Return the public names of a module: those it lists, or the errors it defines."""
    if hasattr(module, "__all__"):
        return list(module.__all__)
    return [name for name, value in vars(module).items() if isinstance(value, type) and issubclass(value, Exception)]


def main() -> int:
    """Write the page, or compare it."""
    return keep(PAGE.parent, ".md", {PAGE.name: page()})


if __name__ == "__main__":
    sys.exit(main())
