"""How lines are laid out: widths in cells, hanging indents, places, lists that give up their columns, progress."""

from __future__ import annotations

import io
from pathlib import Path

import pytest
from hypothesis import example, given
from hypothesis import strategies as st
from rich.cells import cell_len
from rich.console import Console
from rich.text import Text

from dunechest.cli.bar import Display
from dunechest.cli.layout import columns, homely, listing, place_line, say, shortened, tilde
from dunechest.cli.output import Out, show_findings
from dunechest.findings import Finding
from dunechest.progress import Step

NAMES = ["terns", "沙丘 調査", "שונית", "e\u0301te\u0301", "\u2602\ufe0f", "ｗｉｄｅ", "कि", "a" * 30]


def _shown(width: int, call: object, terminal: bool = True) -> list[str]:
    text = io.StringIO()
    console = Console(
        file=text, width=width, force_terminal=terminal, color_system=None, markup=False, highlight=False
    )
    call(console)  # type: ignore[operator]
    return text.getvalue().splitlines()


@given(st.lists(st.tuples(st.sampled_from(NAMES), st.sampled_from(NAMES)), min_size=1, max_size=6))
def test_columns_stand_below_each_other_whatever_the_script(rows: list[tuple[str, str]]) -> None:
    lines = columns([(first, "|", second) for first, second in rows])
    wide = max(cell_len(first) for first, _ in rows)
    for line in lines:
        assert cell_len(line[: line.index("|")]) == wide + 2


@given(st.text(alphabet=st.sampled_from("ab c沙 /é\u0301"), max_size=300), st.integers(20, 200), st.integers(0, 8))
@example(text="aaaaaaaaaaaaa  a", width=20, indent=7)
def test_prose_never_leaves_the_terminal_and_loses_no_word(text: str, width: int, indent: int) -> None:
    lines = _shown(width, lambda console: say(console, text, indent=indent))
    assert all(cell_len(line) <= width for line in lines)
    assert "".join("".join(lines).split()) == "".join(text.split())
    (whole,) = _shown(width, lambda console: say(console, text.replace("\n", " "), indent=indent), False)
    assert whole.rstrip() == (" " * indent + text).rstrip(), "blanks at the end are no word"


def test_commands_are_not_folded_and_amounts_stay_together() -> None:
    command = "dunechest archive 'Dune Survey' --to blue --without-outside-files --read-all"
    lines = _shown(50, lambda console: say(console, f"To do it all again: {command}, and then 240 MB of it are free"))
    assert lines[0] == "To do it all again:"
    assert lines[1].strip() == f"{command},", "the terminal wraps it, so that it can be pasted"
    for width in range(20, 60):
        told = _shown(width, lambda console: say(console, "It takes up 240 MB, and 1,204 files are in it (12 min)."))
        assert any("240 MB" in line for line in told), told
        assert any("1,204 files" in line for line in told), told


@given(st.text(alphabet=st.sampled_from("ab沙/."), max_size=120), st.integers(10, 80))
def test_a_long_place_is_shortened_in_the_middle(path: str, width: int) -> None:
    told = shortened(path, width)
    assert cell_len(told) <= max(width, 0)
    if cell_len(path) > width:
        head, tail = told.split("...")[0], told.rsplit("...", 1)[1]
        assert path.startswith(head.rstrip(".") if "." not in path else head)
        assert path.endswith(tail.lstrip(".") if "." not in path else tail)
    else:
        assert told == path


def test_places_begin_with_the_home_folder(own_machine: Path) -> None:
    assert homely(own_machine / "Pictures" / "1999") == "~/Pictures/1999"
    assert homely(own_machine) == "~"
    assert homely(f"{own_machine}-other/x") == f"{own_machine}-other/x"
    assert homely("/media/a\nb") == "/media/a\\nb"
    assert tilde(f"open in {own_machine}/Pictures now") == "open in ~/Pictures now"
    assert cell_len(place_line("/media/" + "x" * 200, 60).plain) <= 60
    assert place_line("/media/" + "x" * 200, None).plain.endswith("x" * 200)


def test_a_list_too_wide_gives_up_its_columns() -> None:
    heads = ("name", "kind", "size")
    rows = [("dune-survey", "Photo catalogue with a long name", "1.6 MB"), ("notes", "Notes", "57.5 kB")]
    below = [[Text("    ~/Pictures/Dune Survey")], ["recognised by its path"]]

    def call(console: Console) -> None:
        listing(console, heads, rows, below, right=(2,))

    wide, narrow = _shown(100, call), _shown(40, call)
    assert wide[0].split() == ["name", "kind", "size"]
    assert len({line.index("B") for line in (wide[1], wide[3])}) == 1
    assert all(cell_len(line) <= 40 for line in narrow)
    assert "kind Notes, size 57.5 kB" in narrow[-2]
    assert _shown(40, call, terminal=False)[0] == wide[0], "off a terminal nothing is folded"


def test_a_warning_that_says_the_same_is_said_once_a_run(capsys: pytest.CaptureFixture[str]) -> None:
    out = Out()
    same = Finding("same-device", "warning", "It is on the same disk.", "Use another drive.")
    stop = Finding("in-use", "blocks", "It is open.", "Close it.")
    for _ in range(3):
        show_findings(out, [same, stop])
    said = capsys.readouterr().out
    assert (said.count("same disk"), said.count("It is open")) == (1, 3)


def test_progress_tells_of_all_and_of_the_present_one_and_counts_down(monkeypatch: pytest.MonkeyPatch) -> None:
    now = [0.0]
    monkeypatch.setattr("dunechest.cli.bar.time.monotonic", lambda: now[0])
    display = Display({"terns": 1000_000, "notes": 3000_000})
    assert "starting" in display.lines(0.0, 80)[0].plain or len(display.lines(0.0, 80)) == 1
    for second in range(6):
        now[0] = float(second)
        display(Step("copying", second, 10, second * 100_000, 1000_000, "terns"))
    whole, present = (line.plain for line in display.lines(5.0, 120))
    assert "library 1 of 2, 500 kB of 4.0 MB, 100 kB/s, 35 s left" in whole
    assert present[2:].startswith("copying terns") and "5 of 10 files" in present and "5 s left" in present
    assert "3 s left" in display.lines(7.0, 120)[1].plain, "it counts down while nothing is told"
    now[0] = 20.0
    display(Step("finishing", 0, 0, 0, 0, "terns"))
    assert "finishing terns" in display.lines(23.0, 120)[1].plain
    assert "3 s" in display.lines(23.0, 120)[1].plain, "a stage without a count shows how long it has been running"
    for width in (20, 40, 60, 80, 200):
        assert all(line.cell_len <= width for line in display.lines(24.0, width))
