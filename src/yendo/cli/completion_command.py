"""Print what makes the Tab key complete commands, options and paths in a shell.

yendo completion bash > ~/.local/share/bash-completion/completions/yendo
yendo completion zsh > ~/.zfunc/_yendo    (with fpath+=~/.zfunc before compinit in ~/.zshrc)
yendo completion fish > ~/.config/fish/completions/yendo.fish
yendo completion powershell | Out-String | Invoke-Expression    (in $PROFILE)
"""

from __future__ import annotations

import argparse
from collections.abc import Iterator
from pathlib import Path

SHELLS = ("bash", "zsh", "fish", "powershell")
# the library's own function for PowerShell leaves a path with blanks without quotes
POWERSHELL = r"""
function _yendo_paths {
  param([string]$WordToComplete)
  $typed = $WordToComplete.Trim([char[]]"'`"")
  $folder = ''
  if ($typed -match '^(.*[\\/])') { $folder = $Matches[1] }
  $start = $typed.Substring($folder.Length)
  $below = [IO.Path]::Combine($PWD.ProviderPath, $folder)
  try { $entries = [IO.Directory]::GetFileSystemEntries($below) } catch { return }
  foreach ($entry in $entries) {
    $name = [IO.Path]::GetFileName($entry)
    if (-not $name.StartsWith($start, [StringComparison]::OrdinalIgnoreCase)) { continue }
    $path = $folder + $name
    if ([IO.Directory]::Exists($entry)) { $path += [IO.Path]::DirectorySeparatorChar }
    if ($path -match '[^\w\\/:.~-]') { $path = "'" + $path.Replace("'", "''") + "'" }
    $path
  }
}
"""


def configure(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("shell", choices=SHELLS, metavar="SHELL", help=", ".join(SHELLS))


def run(options: argparse.Namespace) -> int:
    import shtab

    from yendo.cli import show
    from yendo.cli.main import parser

    whole = parser(whole=True)
    for action in _actions(whole):
        if action.type is Path and not action.choices:
            vars(action)["complete"] = {**shtab.FILE, "powershell": "_yendo_paths"}
    script = shtab.complete(whole, shell=options.shell, preamble=POWERSHELL if options.shell == "powershell" else "")
    if options.json:
        show.emit({"schema": "yendo.completion/1", "shell": options.shell, "script": script})
    elif not options.quiet:
        print(script)
    return 0


def _actions(parser: argparse.ArgumentParser) -> Iterator[argparse.Action]:
    """Every argument of a parser and of the commands below it."""
    for action in parser._actions:
        yield action
        if isinstance(action, argparse._SubParsersAction):
            for below in action.choices.values():
                yield from _actions(below)
