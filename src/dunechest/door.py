"""Public names, each listed once, in a stub: what it names is loaded when it is first used."""

from __future__ import annotations

import sys
from importlib import import_module

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Callable
    from typing import Any


def door(name: str, file: str) -> tuple[Callable[[str], Any], Callable[[], list[str]], list[str]]:
    """Return what makes the names in a module's stub its own: its ``__getattr__``, ``__dir__`` and ``__all__``.

    Parameters
    ----------
    name, file : str
        The module's ``__name__`` and ``__file__``. Beside it is the stub, with a line for each name:
        ``from dunechest.jobs.check.verify import verify as verify``.
    """
    where = {}
    with open(f"{file.rpartition('.')[0]}.pyi", encoding="utf-8") as stub:  # noqa: PTH123 - nothing that costs time is imported here
        for line in stub:
            if line.startswith("from "):
                _, module, _, own, *_ = line.split()
                where[own] = module

    def load(own: str) -> Any:
        if own == "__version__" and name == "dunechest":
            from dunechest.version import version_number

            value: Any = version_number()
        elif own not in where:
            raise AttributeError(f"module {name!r} has no attribute {own!r}")
        elif where[own] == name:
            value = import_module(f"{name}.{own}")
        else:
            value = getattr(import_module(where[own]), own)
            _make_public(value, name)
        setattr(sys.modules[name], own, value)
        return value

    names = sorted(where)
    return load, lambda: names, names


def _make_public(value: Any, name: str) -> None:
    """Have a class or function say of which public module it is: where it is defined is nobody's concern."""
    # The types of values find the types of their fields by their module, when they are first read or written.
    if callable(value) and not any(hasattr(value, own) for own in ("__struct_fields__", "_fields", "_told")):
        value.__module__ = name
