"""What commands are put together from: groups of options in the help, examples, and what the Tab key completes."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from typing import TYPE_CHECKING

import click

if TYPE_CHECKING:
    from click.shell_completion import CompletionItem

#: The options that every command has, by the names of their parameters.
_OUTPUT = ("as_json", "quiet", "no_progress", "verbose")


class Command(click.Command):
    """A command whose help shows its options in groups, and examples at its end.

    Attributes
    ----------
    sections : mapping of str to tuple of str
        Titles, and the names of the parameters below each. What is in none stands below "Options".
    examples : tuple of str
        Commands as they can be typed.
    """

    sections: Mapping[str, tuple[str, ...]] = {}
    examples: tuple[str, ...] = ()

    def format_options(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """Write the options, by group."""
        records: dict[str, list[tuple[str, str]]] = {}
        place = {name: title for title, names in self.sections.items() for name in names}
        place |= dict.fromkeys(_OUTPUT, "Output")
        titles = [*self.sections, "Options", "Output"]
        for parameter in self.get_params(ctx):
            record = parameter.get_help_record(ctx) if isinstance(parameter, click.Option) else None
            if record is not None:
                title = (
                    "Output" if parameter is self.get_help_option(ctx) else place.get(parameter.name or "", "Options")
                )
                records.setdefault(title, []).append(record)
        for title in titles:
            if title in records:
                with formatter.section(title):
                    formatter.write_dl(records[title])

    def format_epilog(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """Write the examples."""
        if self.examples:
            with formatter.section("Examples"):
                for example in self.examples:
                    formatter.write(f"{'':>{formatter.current_indent}}{example}\n")
        super().format_epilog(ctx, formatter)


class _Number(click.ParamType):  # type: ignore[type-arg]
    """A whole number from 1 on."""

    name = "number"

    def convert(self, value: object, param: click.Parameter | None, ctx: click.Context | None) -> int:
        """Return the number that was written."""
        try:
            number = int(str(value))
        except ValueError:
            number = 0
        if number < 1:
            self.fail(f"{value!r} is not a whole number from 1 on.", param, ctx)
        return number


#: A whole number from 1 on.
NUMBER = _Number()


def shaped(
    *examples: str, sections: Mapping[str, tuple[str, ...]] | None = None
) -> Callable[[click.Command], click.Command]:
    """Give a command its examples, and its options their groups.

    Parameters
    ----------
    *examples : str
        Commands as they can be typed.
    sections : mapping, optional
        See `Command`.
    """

    def give(command: click.Command) -> click.Command:
        assert isinstance(command, Command)
        command.examples = examples
        command.sections = sections or {}
        return command

    return give


_Complete = Callable[[click.Context, click.Parameter, str], "list[CompletionItem]"]


def _completing(names: Callable[[click.Context], Iterable[tuple[str, str]]]) -> _Complete:
    """Return a completion out of names and what each is; whatever fails completes nothing."""

    def complete(context: click.Context, parameter: click.Parameter, begun: str) -> list[CompletionItem]:
        from click.shell_completion import CompletionItem

        from dunechest.names import shown

        try:
            known = list(names(context))
        except Exception:  # a person who pressed Tab is not to see a traceback
            return []
        return [
            CompletionItem(name, help=what)
            for name, what in known
            if name.casefold().startswith(begun.casefold()) and shown(name) == name
        ]

    return complete


def _chests(context: click.Context) -> Iterable[tuple[str, str]]:
    from dunechest.ledger.ledger import open_ledger

    with open_ledger() as ledger:
        return [(chest.label, str(chest.folder)) for chest in ledger.chests()]


def _libraries(context: click.Context) -> Iterable[tuple[str, str]]:
    from dunechest.ledger.ledger import open_ledger

    with open_ledger() as ledger:
        return [(name, "") for name in ledger.library_names()]


def _held(context: click.Context) -> Iterable[tuple[str, str]]:
    """Return what this computer remembers of a chest: its drive is not asked."""
    from dunechest.ledger import memory
    from dunechest.ledger.ledger import open_ledger

    named = context.params.get("chest")
    with open_ledger() as ledger:
        chests = [chest for chest in ledger.chests() if named in (chest.label, chest.id, None, str(chest.folder))]
    found: dict[str, str] = {}
    for chest in chests:
        found |= dict.fromkeys(memory.libraries_of(chest.id, ""), chest.label)
    return sorted(found.items())


def _kinds(context: click.Context) -> Iterable[tuple[str, str]]:
    from dunechest.ledger.folder import state_folder
    from dunechest.library.kinds.load import load_kinds

    return [(kind.name, kind.title) for kind in load_kinds(state_folder(), []).values()]


def _codes(context: click.Context) -> Iterable[tuple[str, str]]:
    from dunechest.model.archive import BLOCKING_CODES

    return [(code, "") for code in sorted(BLOCKING_CODES)]


def _documents(context: click.Context) -> Iterable[tuple[str, str]]:
    from dunechest.model.bodies import BODIES

    return [(name, "") for name in BODIES]


complete_chest = _completing(_chests)
complete_library = _completing(_libraries)
complete_held = _completing(_held)
complete_kind = _completing(_kinds)
complete_code = _completing(_codes)
complete_document = _completing(_documents)
