"""Programs, libraries, restarts."""

from __future__ import annotations

import re

from yendo.installers import known_commands
from yendo.installers.script_exe import run as core
from yendo.installers.script_exe.doing.table import assign, does
from yendo.installers.script_exe.run import ScriptRun, Started


@does(40)
def _open(run: ScriptRun, verb: int, file: int, arguments: int, *_: int) -> None:
    _start(run, f"{run.text(file)} {run.text(arguments)}".strip(), False)


@does(41)
def _run(run: ScriptRun, command: int, variable: int, waits: int, *_: int) -> None:
    _start(run, run.text(command), bool(waits))
    if waits and variable >= 0:
        assign(run, variable, run.unknown("exit code"))


def _start(run: ScriptRun, command: str, waits: bool) -> None:
    number = run.here.number if run.here else -1
    run.started.append(Started(core.shown(command), waits, number))
    run.spot(f"runs {command}", known_commands.unseen(command))


@does(47)
def _restart(run: ScriptRun, *_: int) -> None:
    run.restarts = "started"
    run.stop()


# Libraries whose answer is known: what is taken from the stack and what is put there. Source: their published
# descriptions.
_ANSWERS: dict[tuple[str, str], tuple[int, tuple[str, ...]]] = {
    ("userinfo.dll", "getaccounttype"): (0, ("Admin",)),
    ("userinfo.dll", "getoriginalaccounttype"): (0, ("Admin",)),
    ("langdll.dll", "langdialog"): (0, ()),
    ("banner.dll", "show"): (0, ()),
    ("banner.dll", "destroy"): (0, ()),
    ("system.dll", "free"): (1, ()),
}


@does(44)
def _library(run: ScriptRun, file: int, function: int, text: int, *_: int) -> None:
    """Calls a function of a library: one that the script brings along, or the registering of one that it placed."""
    path, name = run.text(file), run.text(function)
    library = path.rpartition("\\")[2].lower()
    if name.lower() in ("dllregisterserver", "dllunregisterserver"):
        run.spot(f"registers {path}", "what a library writes when it registers itself, only a run knows")
        return
    if library == "nsexec.dll":
        command = next(
            (entry for entry in reversed(run.stack) if not entry.lower().startswith(("/oem", "/timeout"))), ""
        )
        if run.stack:
            run.stack = run.stack[: len(run.stack) - run.stack[::-1].index(command) - 1]
        _start(run, command, True)
        run.stack.append(run.unknown("exit code"))
        if name.lower() == "exectostack":
            run.stack.insert(-1, run.unknown("output"))
        return
    if library == "userinfo.dll" and name.lower() == "getname":
        run.stack.append(run.surroundings.user)
        return
    known = _ANSWERS.get((library, name.lower()))
    if library == "system.dll" and name.lower() == "call" and run.stack:
        _system_call(run, run.stack.pop())
        return
    if known:
        takes, gives = known
        del run.stack[len(run.stack) - takes :]
        run.stack.extend(gives)
        return
    run.spot(f"a library's function: {library} {name}", "what it does and answers, only a run knows")
    _forget_arguments(run)
    run.stack.append(run.unknown(f"{library} {name}"))


def _system_call(run: ScriptRun, call: str) -> None:
    """A function of the system, in the library's own notation: the few whose answer is known, else it is unknown."""
    if "Wow64EnableWow64FsRedirection" in call:
        run.redirected = not re.search(r"\(\s*i\s*0", call) and run.bits == 32
        return
    if "IsWow64Process" in call or "IsWow64Process2" in call:
        for place in re.findall(r"\.(?:r(\d)|R(\d))", call):
            run.variables[int(place[0]) if place[0] else 10 + int(place[1])] = "1"
        if re.search(r"\bi\.s|\.s\b", call):
            run.stack.append("1")
        return
    if "CreateMutex" in call:
        for place in re.findall(r"\?e|\.r(\d)", call):
            if place:
                run.variables[int(place)] = "0"
        if "?e" in call:
            run.stack.append("0")
        return
    run.spot(f"a call of the system: {call[:80]}", "its answer, only a run knows")
    for digit in re.findall(r"\.r(\d)", call):
        run.variables[int(digit)] = run.unknown("a call of the system")
    if re.search(r"\.s\b", call):
        run.stack.append(run.unknown("a call of the system"))


def _forget_arguments(run: ScriptRun) -> None:
    """Takes off the stack what the instructions just before the call put there for it."""
    at = run.here.number - 1 if run.here else -1
    while at >= 0 and run.stack:
        instruction = run.script.instructions[at]
        if instruction.operation != 31 or instruction.operands[1] or instruction.operands[2]:
            break
        run.stack.pop()
        at -= 1
