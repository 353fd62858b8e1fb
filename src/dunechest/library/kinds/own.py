"""A person's own kind files, in this computer's state folder."""

from __future__ import annotations

import os
from pathlib import Path
from typing import ClassVar

import msgspec

from dunechest.errors import KindFileError, RefusedError
from dunechest.ledger.folder import state_folder
from dunechest.library.kinds.load import kind_and_text, load_kinds
from dunechest.library.kinds.schema import Kind
from dunechest.names import shown
from dunechest.transfer import safe
from dunechest.values import Value


class AddedKind(Value, msgspec.Struct, frozen=True):
    """A kind that was added: its file, and what it overrides.

    `instead_of` is "shipped" for a kind that Dune Chest comes with, "own" for a former file of one's own, "same" if that is
    the same to the byte, or empty.
    """

    _told: ClassVar[tuple[str, ...]] = ("kind", "file", "instead_of")

    definition: Kind
    file: Path
    instead_of: str = ""

    @property
    def kind(self) -> str:
        """Its name."""
        return self.definition.name


def add_kind(file: str | os.PathLike[str], *, replace: bool = False) -> AddedKind:
    """Add a kind file on this computer: check it, and copy it to the folder of the person's own kinds.

    Parameters
    ----------
    file : path
        The kind file.
    replace : bool
        Whether it takes the place of another one of that name.

    Raises
    ------
    KindFileError
        If it has a mistake.
    RefusedError
        If there is another of one's own of that name, and it is not to be replaced.
    """
    kind, text = kind_and_text(Path(file))
    folder = state_folder() / "kinds"
    target = folder / f"{kind.name}.toml"
    instead_of = "shipped" if kind.name in load_kinds() else ""
    for other in sorted(folder.glob("*.toml")):
        name, former = _name_and_text(other)
        if name != kind.name and other != target:
            continue
        if former == text:
            return AddedKind(kind, other, "same")
        if not replace:
            raise RefusedError(
                f"You already have another kind {kind.name!r}, in {shown(str(other))}. Nothing was changed; "
                "--replace replaces it."
            )
        target, instead_of = other, "own"
    folder.mkdir(parents=True, exist_ok=True)
    safe.write_file(target, text.encode())
    return AddedKind(kind, target, instead_of)


def _name_and_text(file: Path) -> tuple[str, str]:
    try:
        kind, text = kind_and_text(file)
    except KindFileError:
        return "", ""
    return kind.name, text
