"""What people read is plain English: turns that were once in it do not come back."""

from __future__ import annotations

import ast
import re
from collections.abc import Iterator
from pathlib import Path

import pytest

import dunechest
from dunechest.cli import layout
from dunechest.cli.app import every_command

ROOT = Path(__file__).resolve().parents[2]

#: A turn, and what is said instead.
BANNED = {
    r"\bas (it|they) should be\b": "intact, or what is wrong",
    r"\banew\b": "again, updated",
    r"\btaken along\b": "included",
    r"\bgoes on from there\b": "continues",
    r"\bof its own accord\b": "by itself",
    r"\bthe words of the command\b": "the command line",
    r"\bwords are off\b": "mistake in the command line",
    r"\bweightiest\b": "most serious",
    r"\bbefore a byte moves\b": "before anything is copied",
    r"\b(can|could|cannot|to) be had\b": "available",
    r"\btaken? back\b": "undo, undone",
    r"\brehears": "drill",
    r"\b(this|other|another|old|new|clean) machine\b": "computer",
    r"\bcounterpart\b": "the folder that stands for it",
    r"\bhollow\b": "placeholder",
    r"\bstrays?\b": "outside file",
    r"\bthinn(ed|ing)\b|\bthin the\b": "drop editions",
    r"\ball is well\b|\bnot all is well\b": "OK, problems found",
    r"\bcut off\b|\bcut-off\b": "interrupted",
    r"\bformer system\b": "old system",
    r"\bmay not write\b": "no permission to write",
    r"\bis kept plan\b|\bkept plan\b": "saved plan",
    r"\bcame to be\b": "appeared",
    r"\bin spite of\b": "despite",
    r"\bnothing but silence\b": "no output",
    r"\bthe world is not\b": "things have changed",
    r"\bWordsOff\b": "UsageError",
}


def _said() -> Iterator[tuple[str, str]]:
    """Yield every text of the program that a person may read, and where it stands."""
    for path in sorted((ROOT / "src").rglob("*.py")):
        tree = ast.parse(path.read_text(encoding="utf-8"))
        for node in ast.walk(tree):
            if isinstance(node, ast.Constant) and isinstance(node.value, str) and " " in node.value.strip():
                yield f"{path.relative_to(ROOT)}:{node.lineno}", node.value
            elif isinstance(node, ast.JoinedStr):
                parts = (part.value if isinstance(part, ast.Constant) else "{}" for part in node.values)
                yield f"{path.relative_to(ROOT)}:{node.lineno}", "".join(map(str, parts))
    for page in (ROOT / "README.md", ROOT / "CONTRIBUTING.md", *sorted((ROOT / "docs").rglob("*.md"))):
        for number, line in enumerate(page.read_text(encoding="utf-8").splitlines(), 1):
            yield f"{page.relative_to(ROOT)}:{number}", line


def test_no_banned_turn_is_said() -> None:
    pattern = re.compile("|".join(f"(?:{turn})" for turn in BANNED), re.IGNORECASE)
    texts = list(_said())
    assert len(texts) > 2000, "the texts are really collected"
    found = sorted({f"{where}: {match.group()}" for where, text in texts for match in pattern.finditer(text)})
    assert found == []


def test_the_list_itself_would_notice() -> None:
    assert all(re.compile(turn) for turn in BANNED)
    pattern = re.compile("|".join(f"(?:{turn})" for turn in BANNED), re.IGNORECASE)
    for sentence in (
        "it ran, and something is not as it should be",
        "References are written anew",
        "It was taken back",
    ):
        assert pattern.search(sentence)


def test_help_is_short_and_fits() -> None:
    import click

    from dunechest.cli.app import cli

    # A command keeps the option of its help as it was first made: with the same names as everywhere.
    above = click.Context(cli, info_name="dunechest", help_option_names=["-h", "--help"])
    for name, command in every_command():
        text = command.get_help(click.Context(command, info_name=name, parent=above))
        assert max(map(len, text.splitlines())) <= 100, name
        assert command.help, name
        first = command.help.strip().splitlines()[0]
        assert first[0].isupper(), name
        assert first.rstrip().endswith((".", "it;", ",")) or "." in command.help, name


def _contrast(first: tuple[int, int, int], second: tuple[int, int, int]) -> float:
    """The contrast of two colours as WCAG 2 counts it."""

    def luminance(colour: tuple[int, int, int]) -> float:
        linear = [c / 255 / 12.92 if c / 255 <= 0.03928 else ((c / 255 + 0.055) / 1.055) ** 2.4 for c in colour]
        return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]

    brighter, darker = sorted((luminance(first), luminance(second)), reverse=True)
    return (brighter + 0.05) / (darker + 0.05)


@pytest.mark.parametrize("style", [layout.GOOD, layout.WARN, layout.BAD, layout.INFO, layout.DIM])
def test_every_tone_is_readable_on_light_and_dark_ground(style: str) -> None:
    from rich.style import Style

    colour = Style.parse(style).color
    assert colour is not None
    tone = tuple(colour.get_truecolor())
    for ground in ((255, 255, 255), (0, 0, 0)):
        assert _contrast(tone, ground) >= 4.5, (style, ground)  # type: ignore[arg-type]


def test_no_other_colour_is_used() -> None:
    """Views take their tones from the layout, which the test above holds to the contrast."""
    named = re.compile(r"style=\"[^\"]*(red|green|yellow|cyan|orange|magenta|blue|dim)")
    for path in sorted((ROOT / "src/dunechest/cli").rglob("*.py")):
        assert not named.search(path.read_text(encoding="utf-8")), path


def test_suggested_commands_exist() -> None:
    """Every `dunechest WORD` that a text suggests is a command."""
    known = {name for name, _ in every_command()}
    for where, text in _said():
        for first, second in re.findall(r"dunechest ([a-z]+)(?: ([a-z]+(?:-[a-z]+)*))?\b", text):
            if first in ("chest", "computers", "kinds", "editions", "places"):
                assert f"{first} {second}" in known or second in ("", "lists", "names", "shows"), where
    assert dunechest.__version__
