"""What makes the Tab key of each shell complete commands: the scripts, and the answers to them."""

from __future__ import annotations

import os
import shlex

from click.shell_completion import (
    BashComplete,
    CompletionItem,
    FishComplete,
    ShellComplete,
    ZshComplete,
    add_completion_class,
)

from dunechest.cli.app import cli

_POWERSHELL = """\
Register-ArgumentCompleter -Native -CommandName dunechest -ScriptBlock {
    param($word, $line, $cursor)
    $text = $line.ToString()
    if ($cursor -lt $text.Length) { $text = $text.Substring(0, $cursor) }
    $env:%(complete_var)s = 'powershell_complete'
    $env:COMP_WORDS = $text
    $env:COMP_WORD = $word
    try {
        dunechest | ForEach-Object {
            $name, $what = $_ -split "`t", 2
            if (-not $what) { $what = $name }
            $shown = if ($name -match '[^A-Za-z0-9_./:~-]') { "'" + $name.Replace("'", "''") + "'" } else { $name }
            [System.Management.Automation.CompletionResult]::new($shown, $name, 'ParameterValue', $what)
        }
    } finally {
        Remove-Item Env:%(complete_var)s, Env:COMP_WORDS, Env:COMP_WORD
    }
}
"""


class _Bash(BashComplete):
    """Bash takes what it is given as typed: names are quoted."""

    def format_completion(self, item: CompletionItem) -> str:
        value = shlex.quote(item.value) if item.type == "plain" else item.value
        return f"{item.type},{value}"


class _PowerShell(ShellComplete):
    """PowerShell: the line up to the cursor, and the word at it, in two variables."""

    name = "powershell"
    source_template = _POWERSHELL

    def get_completion_args(self) -> tuple[list[str], str]:
        word = os.environ.get("COMP_WORD", "")
        words = _words(os.environ.get("COMP_WORDS", ""))[1:]
        if word and words and words[-1] == word.strip("'\""):
            words.pop()
        return words, word.strip("'\"")

    def format_completion(self, item: CompletionItem) -> str:
        return f"{item.value}\t{item.help or ''}"


def _words(line: str) -> list[str]:
    """Return the words of a line in which a backslash is a backslash, as PowerShell has it."""
    try:
        words = shlex.split(line, posix=False)
    except ValueError:
        words = line.split()
    return [word[1:-1] if len(word) > 1 and word[0] == word[-1] and word[0] in "'\"" else word for word in words]


SHELLS: dict[str, type[ShellComplete]] = {
    "bash": _Bash,
    "zsh": ZshComplete,
    "fish": FishComplete,
    "powershell": _PowerShell,
}
_HOW = {
    "bash": 'In ~/.bashrc: eval "$(dunechest completion bash)"',
    "zsh": 'In ~/.zshrc: eval "$(dunechest completion zsh)"',
    "fish": "In ~/.config/fish/config.fish: dunechest completion fish | source",
    "powershell": "In $PROFILE: dunechest completion powershell | Out-String | Invoke-Expression",
}


def register() -> None:
    """Make these answer where a shell asks."""
    for name, kind in SHELLS.items():
        add_completion_class(kind, name)


def script(shell: str) -> str:
    """Return the script of a shell, with a first line that says where it belongs."""
    made = SHELLS[shell](cli, {}, "dunechest", "_DUNECHEST_COMPLETE")
    made._check_version = lambda: None  # type: ignore[attr-defined]
    source = made.source_template % made.source_vars()
    return f"# {_HOW[shell]}\n{source}"
