"""How Windows starts what is no program by itself: a script, and a batch file.

Source: the documentation of ``powershell.exe`` and ``cmd.exe``. With ``/s`` the interpreter takes away the outer
quotation marks alone, so a path with blanks and brackets stays whole; ``/d`` leaves out what somebody else had started
with every interpreter.
"""

from __future__ import annotations

SHELL_OPTIONS = ("-NoLogo", "-NoProfile", "-NonInteractive", "-ExecutionPolicy", "Bypass", "-File")


def script(path: str, words: str = "") -> str:
    """A PowerShell script with its options."""
    return " ".join(filter(None, ("powershell.exe", *SHELL_OPTIONS, f'"{path}"', words)))


def batch(path: str, words: str = "") -> str:
    """A batch file with its options. The exit code is the file's own."""
    return interpreted(" ".join(filter(None, (f'"{path}"', words))))


def interpreted(line: str) -> str:
    """A whole line, as the command interpreter takes it."""
    return f'cmd.exe /d /s /c "{line}"'
