"""Check a kind file against its schema and say of each mistake in which line it is.

The schema is the types in `dunechest.library.kinds`; a TOML reader keeps no lines, so
the line of a key is looked up in the text once a mistake is known.
"""

from __future__ import annotations

import re
import types
from collections.abc import Iterator
from typing import TYPE_CHECKING, Any, get_args, get_origin

import msgspec

from dunechest.library.kinds.schema import FORMAT, PLAIN
from dunechest.names import shown, slug
from dunechest.regex import late

if TYPE_CHECKING:
    from dunechest.library.kinds.schema import Joins, Kind, Parts, References, Sign


#: Where a key stands: names and numbers from the top of the file.
Place = tuple[str | int, ...]

STANDARD = ("home", "pictures", "music", "videos", "documents", "desktop", "configuration", "data")


class Mistake(msgspec.Struct, frozen=True):
    """A mistake in a kind file: its line (from 1), the key, and what is wrong."""

    line: int
    key: str
    what: str

    def __str__(self) -> str:
        """Return the mistake in words."""
        return (
            f"line {self.line}: {shown(self.key)}: {shown(self.what)}"
            if self.key
            else f"line {self.line}: {self.what}"
        )


def mistakes(text: str, kind: type[Kind]) -> tuple[Mistake, ...]:
    """Return all mistakes of a kind file's text, by line.

    Parameters
    ----------
    text : str
        TOML.
    kind : type
        The type of a kind, which is the schema.
    """
    import tomllib

    try:
        raw = tomllib.loads(text)
    except (tomllib.TOMLDecodeError, RecursionError) as error:
        found = re.search(r"at line (\d+)", str(error))
        line = int(found.group(1)) if found else text.count("\n") + 1
        words = re.sub(r" \(at .*\)$", "", str(error))
        return (Mistake(line, "", f"this is not TOML: {shown(words)}"),)
    number = raw.get("format")
    if isinstance(number, int) and number > FORMAT:
        what = f"format {number} is newer than this version understands ({FORMAT})"
        return (Mistake(_line(text, ("format",)), "format", what),)
    found_ones = list(_against(raw, kind, ()))
    if not found_ones:
        found_ones = wrong_values(msgspec.convert(raw, kind))
    every = [Mistake(_line(text, place), _words(place), what) for place, what in found_ones]
    return tuple(sorted(every, key=lambda m: m.line))


def _words(place: Place) -> str:
    return ".".join(f"{p}" if isinstance(p, str) else f"{p + 1}" for p in place)


def _against(value: Any, wanted: Any, place: Place) -> Iterator[tuple[Place, str]]:
    """Compare a value with a type, piece by piece, so that one mistake does not hide the next."""
    if isinstance(wanted, type) and issubclass(wanted, msgspec.Struct):
        if not isinstance(value, dict):
            yield place, "this must be a table"
            return
        fields = {field.encode_name: field for field in msgspec.structs.fields(wanted)}
        for key, inner in value.items():
            if key not in fields:
                yield (*place, key), f"there is no such key; known keys: {', '.join(fields)}"
            else:
                yield from _against(inner, fields[key].type, (*place, key))
        for name, field in fields.items():
            if field.required and name not in value:
                yield place, f"the key {name!r} is missing"
        return
    if get_origin(wanted) is tuple and isinstance(value, list):
        (inner_type, *_) = get_args(wanted)
        for index, inner in enumerate(value):
            yield from _against(inner, inner_type, (*place, index))
        return
    if get_origin(wanted) is dict and isinstance(value, dict):
        for key, inner in value.items():
            yield from _against(inner, get_args(wanted)[1], (*place, key))
        return
    try:
        msgspec.convert(value, wanted)
    except msgspec.ValidationError:
        yield place, f"this must be {_called(wanted)}"


def _called(wanted: Any) -> str:
    if choices := get_args(wanted):
        if all(isinstance(choice, str) for choice in choices):
            return "one of " + ", ".join(choices)
        return "a list"
    if isinstance(wanted, types.GenericAlias):
        return "a list or table"
    return {str: "text", int: "a whole number", bool: "true or false"}.get(wanted, "something else")


def wrong_values(kind: Kind) -> list[tuple[Place, str]]:
    """Return what is wrong with a kind that has all its keys: values that cannot mean anything."""
    found: list[tuple[Place, str]] = []
    if kind.format != FORMAT:
        found.append((("format",), f"it must be {FORMAT}"))
    if kind.name != slug(kind.name) or kind.name == PLAIN:
        found.append((("name",), f"{kind.name!r} must be small letters, digits and hyphens, and not {PLAIN!r}"))
    if not kind.signs:
        found.append(((), "at least one of [[signs]] is needed, or every folder would be of this kind"))
    for index, sign in enumerate(kind.signs):
        found += [(("signs", index, key), why) for key, why in _sign_off(sign)]
    for system, places in kind.places.items():
        if system not in ("linux", "macos", "windows"):
            found.append((("places", system), f"{system!r} is not linux, macos or windows"))
        found += [(("places", system, i), why) for i, place in enumerate(places) if (why := _place_off(place))]
    found += [
        (("elsewhere", i, "place"), why) for i, item in enumerate(kind.elsewhere) if (why := _place_off(item.place))
    ]
    found += [
        (("settings", i, "file"), why) for i, setting in enumerate(kind.settings) if (why := _place_off(setting.file))
    ]
    for index, setting in enumerate(kind.settings):
        if not setting.file.endswith((".json", ".toml", ".ini")):
            found.append((("settings", index, "file"), "only .json, .toml and .ini files can be read"))
    names = {item.name for item in kind.references if item.name}
    for index, reference in enumerate(kind.references):
        found += [(("references", index, key), why) for key, why in _references_off(reference)]
    for index, part in enumerate(kind.parts):
        found += [(("parts", index, key), why) for key, why in _parts_off(part, names)]
    for index, join in enumerate(kind.joins):
        found += [(("joins", index, key), why) for key, why in _joins_off(join)]
    for index, agreement in enumerate(kind.agreements):
        if not agreement.files or not agreement.folder or not (agreement.count or agreement.bytes):
            found.append(
                (("agreements", index, "files"), "name descriptors, the folder's key, and 'count' or 'bytes'")
            )
    return found


def _sign_off(sign: Sign) -> Iterator[tuple[str, str]]:
    if not (sign.path or sign.endings or sign.name):
        yield "path", "a sign needs one of the keys 'path', 'endings' and 'name'"
    if sign.path and not _inside(sign.path):
        yield "path", f"{sign.path!r} must be a path inside the library"
    if (sign.path.endswith("/") or not sign.path) and (sign.begins or sign.holds or sign.tables):
        yield "path", "only a file can begin with text, hold text or have tables"
    if any(not re.fullmatch(r"\.[^/.]+", ending) for ending in sign.endings):
        yield "endings", "an ending is a dot and what comes after it"
    if sign.count < 1 or not 0 <= sign.share <= 1:
        yield "count", "count is 1 or more, and share is from 0 to 1"


def _joins_off(join: Joins) -> Iterator[tuple[str, str]]:
    if not join.files:
        yield "files", "name the files that can be joined"
    if (join.form == "sqlite") != bool(join.tables):
        yield "from", "sqlite, and nothing else, needs the key 'tables'"
    if (join.form in ("json", "ini")) != bool(join.keys):
        yield "from", "json and ini, and nothing else, need the key 'keys'"
    before: set[str] = set()
    for table in join.tables:
        if not table.same:
            yield "tables", f"{table.name!r} needs 'same': the columns that identify a row"
        for column, other in table.refers.items():
            if other not in before:
                yield "tables", f"{table.name}.{column} refers to {other!r}, which must come before it in the list"
        before.add(table.name)


def _inside(path: str) -> bool:
    return bool(path.strip("/")) and not path.startswith("/") and ".." not in path.split("/")


def _place_off(place: str) -> str:
    standard = re.match(r"\{([a-z]+)\}(?:/|\Z)", place)
    if standard is None or ".." in place.split("/"):
        return f"{place!r} must begin with a standard folder, such as {{home}}/..."
    if standard.group(1) not in STANDARD:
        return f"{{{standard.group(1)}}} is not a standard folder; known: {', '.join(STANDARD)}"
    return ""


_COLUMN = late(r"[^.=\"\0]+\.[^.=\"\0]+")
_JOIN = late(r"\s*[^.=\"\0]+\.[^.=\"\0]+?\s*=\s*[^.=\"\0]+\.[^.=\"\0]+?\s*")


def _references_off(spec: References) -> Iterator[tuple[str, str]]:
    if not spec.files:
        yield "files", "name the files that hold the references"
    if spec.form == "sqlite":
        for key in ("table", "column"):
            if not getattr(spec, key):
                yield "from", f"sqlite needs the key {key!r}"
        if spec.join and not _JOIN.fullmatch(spec.join):
            yield "join", "this must be of the form table.column = table.column"
        if "." in spec.folder and not (_COLUMN.fullmatch(spec.folder) and spec.join):
            yield "folder", "a folder in another table is table.column and needs the key 'join'"
    elif spec.table or spec.column or spec.folder or spec.join:
        yield "from", f"table, column, folder and join belong to sqlite, not to {spec.form}"
    if spec.form in ("json", "toml", "ini") and not spec.keys:
        yield "from", f"{spec.form} needs the key 'keys'"
    if spec.keys and spec.form not in ("json", "toml", "ini"):
        yield "keys", f"these belong to json, toml and ini, not to {spec.form}"
    if spec.fields and spec.form not in ("bibtex", "csl-json", "ris", "xmp"):
        yield "fields", f"they belong to bibtex, csl-json, ris and xmp, not to {spec.form}"
    if spec.base not in ("", ".") and not _inside(spec.base):
        yield "base", f"{spec.base!r} must be a folder inside the library"


def _parts_off(part: Parts, names: set[str]) -> Iterator[tuple[str, str]]:
    if not part.paths:
        yield "paths", "name the folders or files"
    if part.form == "sqlite":
        for key in ("table", "column", "references"):
            if not getattr(part, key):
                yield "from", f"sqlite needs the key {key!r}"
        if part.references and part.references not in names:
            yield "references", f"no [[references]] here has the name {part.references!r}"
        for join in part.joins:
            if not _JOIN.fullmatch(join):
                yield "joins", f"{join!r} must be of the form table.column = table.column"
    elif part.table or part.column or part.joins or part.references:
        yield "from", f"table, column, joins and references belong to sqlite, not to {part.form}"
    if bool(part.named_in) != bool(part.named_by) or (part.named_in and part.form != "folders"):
        yield "from", "named-in and named-by go together, and belong to folders"
    if (part.form == "bibtex") != bool(part.field):
        yield "from", "bibtex, and nothing else, needs the key 'field'"


def _line(text: str, place: Place) -> int:
    """Find the line of a key; the closest one that can be found, for what is missing."""
    lines = text.splitlines()
    tables: dict[str, int] = {}
    best = 1
    inside = ""
    names = [str(p) if isinstance(p, str) else p for p in place]
    for number, line in enumerate(lines, start=1):
        header = re.match(r"\s*\[\[?\s*([^\]]+?)\s*\]\]?", line)
        if header and not re.match(r"\s*\[\s*[\"'{]", line) and "=" not in line.partition("]")[0]:
            name = header.group(1).strip("\"'")
            if line.lstrip().startswith("[["):
                tables[name] = tables.get(name, -1) + 1
                inside = f"{name}#{tables[name]}"
            else:
                inside = name
        wanted = _table_of(names)
        if wanted and inside == wanted[0] and header:
            best = number
        key = re.match(r"\s*([\w-]+|\"[^\"]*\"|'[^']*')\s*=", line)
        if key and names:
            table, rest = wanted if wanted and wanted[0] == inside else ("", names)
            if (table == inside or (not table and not inside)) and rest and key.group(1).strip("\"'") == rest[0]:
                return _within(lines, number, rest)
    return best


def _table_of(names: list[str | int]) -> tuple[str, list[str | int]] | None:
    """Return the table that a place lies in, as headers name it, and the rest of the place."""
    if len(names) > 1 and isinstance(names[1], int):
        return f"{names[0]}#{names[1]}", names[2:]
    if names:
        return str(names[0]), names[1:]
    return None


def _within(lines: list[str], number: int, rest: list[str | int]) -> int:
    """Find the line of an item of a list that is written over several lines."""
    if len(rest) < 2 or not isinstance(rest[1], int):
        return number
    items = -1
    for offset, line in enumerate(lines[number - 1 :]):
        body = line.partition("=")[2] if offset == 0 else line
        items += len(re.findall(r"\"[^\"]*\"|'[^']*'|\b\d+\b", body.partition("#")[0]))
        if items >= rest[1] or line.rstrip().endswith("]"):
            return number + offset
    return number
