"""What command lines that installers run do, as far as their program is one that is known."""

from __future__ import annotations

import re

_PROGRAM = re.compile(r'\s*(?:"([^"]+)"|(\S+))')
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


def does(line: str) -> str:
    """What a command line does; empty where its program is none of these."""
    path = program_of(line)
    if not path:
        return ""
    if re.fullmatch(r"(?i)(.*\\)?cmd(\.exe)?", path) and (rest := re.search(r"(?i)\s/[ck]\s+(.*)", line)):
        return does(rest[1].strip().strip('"')) or "runs a command of the shell"
    program = re.sub(r"(?i)\.(exe|com)$", "", path.rpartition("\\")[2])
    for names, holds, what in _DOES:
        if re.fullmatch(rf"(?i){names}", program) and re.search(holds, line):
            return what
    return ""


def unseen(line: str) -> str:
    """Why nobody can say what a program of an installer's does, with what is known of it."""
    known = does(line)
    return f"it {known}; what exactly, only a run knows" if known else "what that program does, only a run knows"
