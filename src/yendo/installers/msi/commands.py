"""The command lines that custom actions run, as far as a database tells them, and what is known of their programs."""

from __future__ import annotations

import re

from yendo.facts import secrets
from yendo.formats.msi import TableRow
from yendo.installers import known_commands
from yendo.installers.msi.session import InstallSession

DEFERRED = 0x0400  # CustomAction.Type: it runs later, and knows only the data that were set for it
# Entries of libraries that do nothing but run their data as a command line, and the properties from which they take it
# when they run at once. Source: the names as they stand in databases of several makers.
_RUNS_ITS_DATA = re.compile(r"(?i)\w*(?:quiet|silent|shell)exec(?:64)?")
_COMMAND_LINES = re.compile(r"(?i)\w*exec(?:64)?(?:cmd|command)line")


def command_of(session: InstallSession, name: str, entry: TableRow) -> str:
    """The command line of a custom action; empty where it is none, or only running it shows it."""
    kind, target = entry.number("Type") & 0xFFFF, entry.text("Target")
    source = entry.text("Source")
    match kind & 0x3F:
        case 2:
            line = f'"{source}" (in the database) {session.format(target)}'
        case 18:
            line = f'"{session.file_path(source) or source}" {session.format(target)}'
        case 34:
            line = session.format(target)
        case 50:
            line = f'"{session.prop(source)}" {session.format(target)}' if session.prop(source) else ""
        case 1 | 17 if _RUNS_ITS_DATA.fullmatch(target):
            line = session.prop(name) if kind & DEFERRED else _line_at_once(session)
        case _:
            line = ""
    if kind & 0x3F in (18, 34, 50) and kind & DEFERRED and "[CustomActionData]" in target:
        line = line.replace("  ", " ").strip() + (f" {session.prop(name)}" if session.prop(name) else "")
    return _masked(session, line.strip())


def _line_at_once(session: InstallSession) -> str:
    return next((value for key, value in session.properties.items() if value and _COMMAND_LINES.fullmatch(key)), "")


def _masked(session: InstallSession, line: str) -> str:
    values = tuple(value for key, value in session.properties.items() if value and secrets.is_secret(key))
    return secrets.mask_words(secrets.mask(line, values))


def known_of(session: InstallSession, command: str) -> str:
    """What is known of a command line's program; empty where nothing is."""
    if (inner := known_commands.within_shell(command)) is not None:
        return known_of(session, inner) or known_commands.IN_SHELL
    if does := known_commands.does(command):
        return does
    path = known_commands.program_of(command)
    if path and session.state.get("file", path) is not None:
        return "a program that it installs" if _placed(session, path) else "a program of the machine"
    return ""


def _placed(session: InstallSession, path: str) -> bool:
    return any(effect.kind == "file" and effect.thing.identity == path.lower() for effect in session.effects)
