"""The command line's front: finds the command, and turns errors into messages and exit codes."""

from __future__ import annotations

import argparse
import os
import sys
from importlib import import_module
from types import ModuleType

from yendo import __version__

COMMANDS = {
    "read": "say what an installer is and does, without running it",
    "try": "run a setup program on fresh machines until its silent command line is found",
    "draft": "start a package: a workspace with a plan",
    "capture": "do the work on a fresh machine, and make a package of what it changed",
    "decide": "answer what a plan leaves open, one question at a time",
    "add": "put a step, a rule, a need, a setting or a vendor's file into a plan",
    "compare": "say what the vendor changed between two versions",
    "renew": "carry a package over to the vendor's next version",
    "check": "look a plan over as an experienced colleague would",
    "build": "make the package",
    "sign": "sign the package, or judge its signature",
    "detect": "derive detection rules, and measure what they catch",
    "prove": "install, detect and remove the package on a fresh machine",
    "machines": "list what packages are proved on, and when each computer was last used",
    "farm": "let several computers prove together",
    "dossier": "write the page for the person who signs off",
    "handover": "write the sheet for the person at the management system",
    "facts": "show what run conditions see on a machine",
    "suite": "several products as one, in order, with what they share brought once",
    "label": "say something of the drivers of a share, and put them into sets",
    "shelf": "list every workspace below a folder, and where packages get into one another's way",
    "fleet": "ask an inventory, foresee a package for all machines, plan and play its waves",
    "store": "keep vendor files once, by their content",
    "msi": "look into an installer database: tables, properties, features, dialogs",
    "transform": "read, judge, make and carry over transforms",
    "patch": "say what a patch is for and what it changes",
    "demo": "run the whole way once, on invented data",
    "doctor": "show which machines and helpers are here, and how to get the rest",
    "completion": "print what makes the Tab key complete Yendo's commands in a shell",
}
EXIT_CODES = "exit codes: 0 done; 1 done, and the answer is no; 2 wrong usage; 3 unreadable or not covered; 4 no such machine here; 70 a defect in Yendo"  # noqa: E501


class _Formatter(argparse.RawDescriptionHelpFormatter):
    def __init__(self, prog: str) -> None:
        super().__init__(prog, max_help_position=26, width=min(100, int(os.environ.get("COLUMNS", "100"))))


def _module(name: str) -> ModuleType:
    return import_module(f"yendo.cli.{name}_command")


def parser(only: str | None = None, *, whole: bool = False) -> argparse.ArgumentParser:
    """The parser. ``only`` sets up the options of one command, which is quicker; ``whole`` those of all."""
    top = argparse.ArgumentParser(
        prog="yendo",
        formatter_class=_Formatter,
        epilog=EXIT_CODES,
        description="From a vendor's installer to a package that installs, upgrades and removes unattended,\nand is "
        "proved on a fresh machine.\n\n"
        "  yendo read lantern-6.2.1.msi\n  yendo draft lantern lantern-6.2.1.msi\n  yendo check lantern\n  yendo "
        "build lantern\n  yendo prove lantern",
    )
    top.add_argument("--version", action="version", version=f"yendo {__version__}")
    commands = top.add_subparsers(dest="command", metavar="COMMAND", title="commands")
    for name, summary in COMMANDS.items():
        if only and name != only:
            commands.add_parser(name, help=summary)
            continue
        command = commands.add_parser(name, help=summary, formatter_class=_Formatter)
        if only or whole:
            module = _module(name)
            command.description = module.__doc__
            module.configure(command)
            command.add_argument("--json", action="store_true", help="print one JSON object")
            command.add_argument("--quiet", "-q", action="store_true", help="print nothing but errors")
    return top


def _named(arguments: list[str]) -> str | None:
    return next((word for word in arguments if not word.startswith("-") and word in COMMANDS), None)


def main(arguments: list[str] | None = None) -> int:
    """Runs a command; returns its exit code. Never raises, but for a wrong usage that argparse ends itself."""
    words = sys.argv[1:] if arguments is None else arguments
    only = _named(words)
    top = parser(only)
    options = top.parse_args(words)
    if not options.command:
        top.print_help()
        return 2
    from yendo.errors import YendoError

    _catch_termination()
    try:
        return int(_module(options.command).run(options))
    except YendoError as error:
        return _failed(options, type(error).__name__, str(error), error.exit_code)
    except KeyboardInterrupt:
        print(f"yendo {options.command}: stopped; nothing is left running", file=sys.stderr)
        return 130
    except OSError as error:
        # how Windows says that nobody reads the pipe any more
        if isinstance(error, BrokenPipeError) or (os.name == "nt" and error.errno == 22 and not error.filename):
            os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
            return 0
        if not (message := _ordinary(error)):
            return _defect(options.command, error)
        return _failed(options, "System", message, 2)
    except Exception as error:
        return _defect(options.command, error)


def _failed(options: argparse.Namespace, kind: str, message: str, code: int) -> int:
    """Tells an error that a person can mend; returns its exit code."""
    if options.json:
        import json

        print(json.dumps({"schema": "yendo.error/1", "error": kind, "message": message, "exit_code": code}))
    print(f"yendo {options.command}: {_printable(message)}", file=sys.stderr)
    return code


def _printable(text: str) -> str:
    """Without control characters: file names and messages of hostile files must not drive the terminal."""
    return "".join(character if character.isprintable() or character == "\n" else "\ufffd" for character in text)


_REMEDIES = {
    "ENOSPC": "make room, or name another place",
    "EDQUOT": "make room, or name another place",
    "EROFS": "name a folder that can be written",
    "EACCES": "ask for the right, or name another place",
    "EPERM": "ask for the right, or name another place",
    "ENAMETOOLONG": "use a shorter name, or a folder nearer to the root",
    "EMFILE": "close other programs, or raise the limit of open files",
    "ENOENT": "correct the path",
    "ENOTDIR": "correct the path",
    "EISDIR": "name a file",
    "ENXIO": "name a file, not a pipe or a socket",
    "ESPIPE": "name a file, not a pipe",
    "EBUSY": "close what uses it",
    "EIO": "look after the disk",
    "ENOTEMPTY": "somebody else writes there at the same time; try again",
    "EEXIST": "somebody else writes there at the same time; try again",
}


def _ordinary(error: OSError) -> str:
    """What the system says, with its path and what to do; nothing where no person could mend it."""
    import errno

    name = errno.errorcode.get(error.errno or 0, "")
    if name not in _REMEDIES:
        return ""
    path = f"{error.filename}: " if error.filename else ""
    return f"{path}{(error.strerror or str(error)).lower()}; {_REMEDIES[name]}"


def _catch_termination() -> None:
    """A closed terminal and a request to end are treated like Ctrl-C: everything that was started is ended first."""
    import signal

    from yendo.cli import interrupts

    for name in ("SIGINT", "SIGTERM", "SIGHUP", "SIGBREAK"):
        if (found := getattr(signal, name, None)) is not None and signal.getsignal(found) is not signal.SIG_IGN:
            signal.signal(found, interrupts.arrived)
    sys.unraisablehook = interrupts.lost


def _defect(command: str, error: Exception) -> int:
    import platform
    import tempfile
    import traceback

    with tempfile.NamedTemporaryFile(
        "w", prefix="yendo-defect-", suffix=".txt", delete=False, encoding="utf-8"
    ) as report:
        report.write(f"yendo {__version__}, Python {platform.python_version()}, command {command}\n\n")
        traceback.print_exception(error, file=report)
    print(
        f"yendo {command}: a defect in Yendo ({type(error).__name__}); a report is in {report.name}, please send it in",
        file=sys.stderr,
    )
    return 70
