"""What command lines that installers run do, as far as their program is one that is known."""

from __future__ import annotations

import re

IN_SHELL = "runs a command of the shell"
_PROGRAM = re.compile(r'\s*(?:"([^"]+)"|(\S+))')
_AROUND_PROGRAM = re.compile(r'(?i)"([a-z]:\\[^"]+|[^"\s]+)\.(exe|com|bat|cmd)"')
# What the system's own programs do, by their name and what their line holds.
_DOES = (
    (r"pnputil|dpinst\w*|devcon\w*", r"", "adds or removes a driver"),
    (r"rundll32", r"(?i)installhinfsection", "installs a driver or a part by its .inf"),
    (r"netsh", r"(?i)firewall", "changes the firewall"),
    (r"netsh", r"(?i)\bhttp\b", "changes who may listen for web requests"),
    (r"sc", r"(?i)\b(create|config|delete|failure|description)\b", "changes a service"),
    (r"sc|net1?", r"(?i)\b(start|stop)\b", "starts or stops a service"),
    (r"net1?", r"(?i)\b(user|localgroup)\b", "changes accounts or groups"),
    (r"reg", r"(?i)\b(add|delete|import)\b", "changes the registry"),
    (r"regedit", r"", "changes the registry"),
    (r"regsvr32|regasm|regsvcs", r"", "registers a library"),
    (r"gacutil|ngen", r"", "registers or compiles assemblies"),
    (r"icacls|cacls|xcacls|takeown", r"", "changes rights"),
    (r"schtasks|at", r"", "changes scheduled tasks"),
    (r"msiexec", r"", "installs or removes another product"),
    (r"taskkill|tskill", r"", "ends programs"),
    (r"certutil|certmgr", r"", "changes certificates"),
    (r"dism|pkgmgr|ocsetup|wusa", r"", "changes parts of the system"),
    (r"bcdedit", r"", "changes how the machine starts"),
    (r"wevtutil|lodctr|unlodctr|mofcomp", r"", "registers events or counters"),
    (r"setx", r"", "sets an environment variable"),
    (r"powershell|pwsh|cscript|wscript|mshta", r"", "runs a script"),
)


def program_of(line: str) -> str:
    """The program that a command line names; empty where it names none."""
    match = _PROGRAM.match(line)
    return (match[1] or match[2]).strip() if match else ""


def within_shell(line: str) -> str | None:
    """The command line that the shell is told to run; None where it is not the shell's.

    Source: the shell takes the first and the last quote away, but not where these are all there are and stand
    around a program.
    """
    if not re.fullmatch(r"(?i)(.*\\)?cmd(\.exe)?", program_of(line)):
        return None
    rest = re.search(r"(?i)\s/[ck]\s+(.*)", line)
    if rest is None:
        return None
    inner = rest[1].strip()
    if not inner.startswith('"') or (inner.count('"') == 2 and _AROUND_PROGRAM.match(inner)):
        return inner
    head, _, tail = inner[1:].rpartition('"')
    return head + tail


def does(line: str) -> str:
    """What a command line does; empty where its program is none of these."""
    path = program_of(line)
    if not path:
        return ""
    if (inner := within_shell(line)) is not None:
        return does(inner) or IN_SHELL
    program = re.sub(r"(?i)\.(exe|com)$", "", path.rpartition("\\")[2])
    for names, holds, what in _DOES:
        if re.fullmatch(rf"(?i){names}", program) and re.search(holds, line):
            return what
    return ""


def unseen(line: str) -> str:
    """Why nobody can say what a program of an installer's does, with what is known of it."""
    known = does(line)
    return f"it {known}; what exactly, only a run knows" if known else "what that program does, only a run knows"
