"""What the Tab key completes, asked of the shells themselves with the script that the built program prints."""

from __future__ import annotations

import os
import re
import select
import shutil
import subprocess
import time
from pathlib import Path
from typing import Any

import pytest
from conftest import Yendo, missing, unix

pytestmark = unix  # the shells are asked in a terminal of Unix

ASKED = {
    "pr": {"prove"},
    "prove --ma": {"--machine"},
    "prove --machine ": {"simulated", "wine", "here", "all"},
    "msi fe": {"features"},
    "msi tables lan": {"lantern 6.2.1.msi"},
    "draft lantern lan": {"lantern 6.2.1.msi"},
    "draft --silent ": set(),
}


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    """A folder with one file, whose name has a blank."""
    (tmp_path / "w").mkdir()
    (tmp_path / "w" / "lantern 6.2.1.msi").touch()
    return tmp_path / "w"


def script(yendo: Yendo, folder: Path, shell: str) -> Path:
    path = folder.parent / f"yendo.{shell}"
    path.write_text(yendo("completion", shell).stdout, "utf-8")
    return path


def needed(shell: str) -> str:
    found = shutil.which(shell)
    if not found:
        missing(shell, f"apt-get install {shell}")
    return str(found)


def test_bash(yendo: Yendo, folder: Path) -> None:
    asking = (
        'source "$1"; shift; COMP_WORDS=(yendo "$@"); COMP_CWORD=$#; compopt() { :; }\n'
        '"$(complete -p yendo | sed "s/.*-F \\([^ ]*\\).*/\\1/")" yendo "${!#}"; printf "%s\\n" "${COMPREPLY[@]}"'
    )
    path = script(yendo, folder, "bash")
    for line, right in ASKED.items():
        came = subprocess.run(
            [needed("bash"), "-c", asking, "bash", str(path), *line.split(" ")],
            cwd=folder, capture_output=True, text=True, timeout=30, check=True,
        )  # fmt: skip
        assert set(came.stdout.split("\n")) - {""} == right, line
        assert not came.stderr, line


def test_fish(yendo: Yendo, folder: Path) -> None:
    path = script(yendo, folder, "fish")
    for line, right in ASKED.items():
        came = subprocess.run(
            [needed("fish"), "--no-config", "-c", "source $argv[1]; complete -C $argv[2]", str(path), f"yendo {line}"],
            cwd=folder, capture_output=True, text=True, timeout=30, check=True,
            env={**os.environ, "HOME": str(folder.parent), "XDG_DATA_HOME": str(folder.parent)},
        )  # fmt: skip
        answers = {answer.split("\t")[0].replace("\\ ", " ") for answer in came.stdout.splitlines()}
        assert answers == right or not right, line
        assert not came.stderr, line


def test_zsh(yendo: Yendo, folder: Path) -> None:
    """Typed at a terminal, since zsh completes nowhere else; the script lies where the help says."""
    path = script(yendo, folder, "zsh").rename(folder.parent / "_yendo")
    typed = {line: right.copy().pop() for line, right in ASKED.items() if len(right) == 1}
    program = needed("zsh")
    import pty

    child, terminal = pty.fork()
    if not child:
        os.chdir(folder)
        os.environ.update(TERM="dumb", ZDOTDIR=str(folder.parent), PS1="> ")
        os.execv(program, [program, "-f", "-i"])

    def say(text: str, until: str) -> str:
        os.write(terminal, text.encode())
        seen, end = "", time.monotonic() + 30
        while until not in seen and time.monotonic() < end:
            if select.select([terminal], [], [], 0.2)[0]:
                seen += re.sub(r"\x1b\[[0-9;?]*[A-Za-z]|\x07", "", os.read(terminal, 4096).decode(errors="replace"))
        assert until in seen, seen
        return seen

    try:
        say(f"fpath+='{path.parent}'; autoload -U compinit; compinit -D -u; echo rea''dy\n", "ready")
        for line, right in typed.items():
            say(
                f"yendo {line}\t",
                f"yendo {line.rsplit(' ', 1)[0] + ' ' if ' ' in line else ''}{right.replace(' ', chr(92) + ' ')}",
            )
            say("\x15echo ag''ain\n", "again")
    finally:
        os.write(terminal, b"\x15exit\n")
        os.close(terminal)
        os.waitpid(child, 0)


@pytest.mark.wine
def test_powershell(yendo: Yendo, shell_wine: Any, folder: Path) -> None:
    """Asked of the engine itself. Its host lacks ``New-Object``, which the script calls for one set of words."""
    stand_in = "function New-Object { param($Name) , [Activator]::CreateInstance([type]$Name) }\n"
    lines = [line for line, right in ASKED.items() if right]
    asked = "".join(
        f"$found = [Management.Automation.CommandCompletion]::CompleteInput('yendo {line}', {len(line) + 6}, $null)\n"
        f"'{number}:' + ($found.CompletionMatches.CompletionText -join '|')\n"
        for number, line in enumerate(lines)
    )
    with shell_wine.fresh() as real:
        real.run(r"cmd /c mkdir C:\w", timeout=60)
        real.write(r"C:\w\lantern 6.2.1.msi", b"")
        text = stand_in + script(yendo, folder, "powershell").read_text("utf-8")
        real.write(r"C:\asked.ps1", f"{text}\n{asked}".encode("utf-8-sig"))
        said = real.run(r'powershell -NoProfile -Command ". C:\asked.ps1"', timeout=60, folder=r"C:\w").output
    for number, line in enumerate(lines):
        found = re.search(rf"^{number}:(.*)$", said.replace("\r", ""), re.M)
        assert found, said
        right = {f"'{one}'" if " " in one else one for one in ASKED[line]}
        assert set(found[1].split("|")) == right, (line, said)
