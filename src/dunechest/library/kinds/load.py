"""Read kind files: the shipped ones, and a person's own.

Shipped kinds are package data; a person's own lie in ``kinds/`` of this computer's state folder and override a shipped
one of the same name.
"""

from __future__ import annotations

import functools
from collections.abc import Mapping
from pathlib import Path

import msgspec

from dunechest.errors import KindFileError, UsageError
from dunechest.ledger.folder import state_folder
from dunechest.library.kinds import check
from dunechest.library.kinds.schema import PLAIN, PLAIN_KIND, Kind
from dunechest.names import meant, shown
from dunechest.transfer import safe
from dunechest.values import FrozenDict

_MOST = 1 << 20
#: The folder of the shipped kinds.
SHIPPED = Path(__file__).parent / "shipped"


def parse_kind(text: str, where: str) -> Kind:
    """Read the text of a kind file.

    Parameters
    ----------
    text : str
        TOML.
    where : str
        What to call the file in an error.

    Raises
    ------
    KindFileError
        With every mistake and its line.
    """
    import tomllib

    try:
        kind = msgspec.convert(tomllib.loads(text), Kind)
        well = not check.wrong_values(kind)
    except (tomllib.TOMLDecodeError, msgspec.ValidationError, RecursionError):
        well = False
    if not well:
        mistakes = check.mistakes(text, Kind)
        lines = [f"{shown(where)}, {mistake}" for mistake in mistakes]
        raise KindFileError("\n".join(lines), mistakes)
    return kind


def load_kinds(own: Path | None = None, broken: list[KindFileError] | None = None) -> Mapping[str, Kind]:
    """Load the shipped kinds and a person's own.

    Parameters
    ----------
    own : Path, optional
        The state folder; kind files lie in ``kinds/`` below it.
    broken : list, optional
        Takes up the mistakes; a person's own file that has one is then passed over.

    Returns
    -------
    mapping
        Kinds by name.

    Raises
    ------
    KindFileError
        If one of the files has a mistake, and nothing takes it up.
    """
    kinds = dict(_shipped())
    if own is not None:
        for path in sorted((own / "kinds").glob("*.toml")):
            try:
                kind = read_kind(path)
            except KindFileError as error:
                if broken is None:
                    raise
                broken.append(error)
                continue
            kinds[kind.name] = kind
    return kinds


@functools.cache
def _shipped() -> Mapping[str, Kind]:
    """Return the kinds that Dune Chest comes with; they are read once.

    What their files say lies beside them in one document, which is read in a twentieth of the time.
    """
    kinds = msgspec.json.decode((SHIPPED / "all.json").read_bytes(), type=list[Kind])
    return FrozenDict({kind.name: kind for kind in kinds})


def kinds_document() -> bytes:
    """Return the document of all shipped kinds, made from their files; ``scripts/shipped_kinds.py`` writes it."""
    files = sorted(SHIPPED.glob("*.toml"))
    kinds = [parse_kind(file.read_text(encoding="utf-8"), file.name) for file in files]
    return b"[\n" + b",\n".join(map(msgspec.json.encode, kinds)) + b"\n]\n"


def read_kind(path: Path) -> Kind:
    """Read one kind file.

    Raises
    ------
    KindFileError
        If it cannot be read or has a mistake.
    """
    return kind_and_text(path)[0]


def kind_and_text(path: Path) -> tuple[Kind, str]:
    """Read one kind file, and return its text too; see `read_kind`."""
    try:
        text = safe.read_bounded(path, _MOST).decode("utf-8")
    except (OSError, ValueError) as error:
        raise KindFileError(f"{shown(str(path))} cannot be read: {shown(str(error))}") from error
    return parse_kind(text, str(path)), text


def kind_named(kinds: Mapping[str, Kind], name: str) -> Kind:
    """Return a kind by name, or say which there are."""
    if name == PLAIN:
        return PLAIN_KIND
    try:
        return kinds[name]
    except KeyError:
        known = ", ".join(sorted([*kinds, PLAIN]))
        hint = meant(name, [*kinds, PLAIN])
        raise UsageError(f"There is no kind {shown(name)!r}.{hint} Known kinds: {known}.") from None


def list_kinds() -> tuple[Kind, ...]:
    """Return all kinds by name: the built-in ones and the person's own.

    Raises
    ------
    KindFileError
        If a kind file has a mistake.
    """
    kinds = load_kinds(state_folder())
    return tuple(kinds[name] for name in sorted(kinds))
