"""Texts, numbers, the stack, windows that a silent run has not."""

from __future__ import annotations

import re
from collections.abc import Callable

from yendo.effects import File
from yendo.installers.script_exe import run as core
from yendo.installers.script_exe.doing.table import assign, does
from yendo.installers.script_exe.run import ScriptRun
from yendo.platforms.windows.surroundings import expand


@does(24)
def _length(run: ScriptRun, variable: int, text: int, *_: int) -> None:
    value = run.text(text)
    assign(run, variable, run.unknown(f"length of {value}") if run.is_unknown(value) else str(len(value)))


@does(25)
def _assign(run: ScriptRun, variable: int, text: int, longest: int, start: int, *_: int) -> None:
    value, limit, begin = run.text(text), longest != 0, run.number(start)
    if run.is_unknown(value) and (limit or begin):
        assign(run, variable, run.unknown(f"part of {core.shown(value)}"))
        return
    if begin < 0:
        begin = max(len(value) + begin, 0)
    value = value[begin:]
    if limit:
        size = run.number(longest)
        value = value[:size] if size >= 0 else value[: max(len(value) + size, 0)]
    assign(run, variable, value)


@does(27)
def _environment(run: ScriptRun, variable: int, name: int, reads: int, *_: int) -> None:
    text = run.text(name)
    if not reads:
        assign(run, variable, expand(text, run.surroundings.environment))
        return
    known = {key.lower(): value for key, value in run.surroundings.environment.items()}
    if text.lower() not in known:
        run.failed()
    assign(run, variable, known.get(text.lower(), ""))


@does(29)
def _calculate(run: ScriptRun, variable: int, one: int, other: int, how: int, *_: int) -> None:
    if run.is_unknown(run.text(one) + run.text(other)):
        assign(run, variable, run.unknown("a calculation"))
        return
    left, right = run.number(one), run.number(other)
    if how in (3, 10) and not right:
        run.failed()
    made: dict[int, Callable[[], int]] = {
        0: lambda: left + right,
        1: lambda: left - right,
        2: lambda: left * right,
        3: lambda: int(left / right) if right else 0,
        4: lambda: left | right,
        5: lambda: left & right,
        6: lambda: left ^ right,
        7: lambda: int(not left),
        8: lambda: int(bool(left or right)),
        9: lambda: int(bool(left and right)),
        10: lambda: left - right * int(left / right) if right else 0,
        11: lambda: left << (right & 31),
        12: lambda: left >> (right & 31),
        13: lambda: (left & 0xFFFFFFFF) >> (right & 31),
    }
    value = made.get(how, lambda: 0)()
    assign(run, variable, str((value + 0x80000000) % 0x100000000 - 0x80000000))


@does(30)
def _format(run: ScriptRun, variable: int, form: int, value: int, *_: int) -> None:
    text, number = run.text(form), run.number(value)
    if run.is_unknown(run.text(value)):
        assign(run, variable, run.unknown("a number"))
        return

    def one(match: re.Match[str]) -> str:
        flags, letter = match[1], match[2]
        if letter == "%":
            return "%"
        value = number if letter in "di" else number & (0x7F if letter == "c" else 0xFFFFFFFF)
        return f"%{flags}{'d' if letter in 'iu' else letter}" % value

    made = re.sub(r"%([-0 +#]{0,4}[0-9]{0,3}(?:\.[0-9]{0,3})?)([diuxXc%])", one, text)
    assign(run, variable, made[: core.MAX_TEXT])


@does(31)
def _stack(run: ScriptRun, what: int, takes: int, swaps: int, *_: int) -> None:
    if swaps:
        if len(run.stack) > swaps:
            run.stack[-1], run.stack[-1 - swaps] = run.stack[-1 - swaps], run.stack[-1]
        else:
            run.failed()
    elif takes:
        if run.stack:
            assign(run, what, run.stack.pop())
        else:
            run.failed()
    elif len(run.stack) < core.MAX_STACK:
        run.stack.append(run.text(what))


@does(17, 18)
def _full_path(run: ScriptRun, variable: int, path: int, *_: int) -> None:
    assign(run, variable, run.absolute(run.text(path)))


@does(19)
def _temporary(run: ScriptRun, variable: int, base: int, *_: int) -> None:
    run.made += 1
    path = f"{run.path(base)}\\ns{run.made:x}.tmp"
    run.put(File(path, 0))
    assign(run, variable, path)


@does(32, 33, 35, 38)
def _window_answer(run: ScriptRun, variable: int, *_: int) -> None:
    """Asks a window; a silent run has none."""
    assign(run, variable, "0")


@does(34)
def _is_window(run: ScriptRun, window: int, there: int, missing: int, *_: int) -> int | None:
    return run.jump(missing)


@does(42, 43)
def _about_file(run: ScriptRun, high: int, low: int, path: int, *_: int) -> None:
    found = run.state.get("file", run.path(path))
    if not isinstance(found, File):
        run.failed()
        assign(run, high, "")
        assign(run, low, "")
    elif run.here and run.here.operation == 43 and found.version:
        one, two, three, four = (int(part) for part in found.version.split("."))
        assign(run, high, str(one << 16 | two))
        assign(run, low, str(three << 16 | four))
    else:
        assign(run, high, run.unknown(f"about {found.path}"))
        assign(run, low, run.unknown(f"about {found.path}"))


@does(63)
def _section(run: ScriptRun, section: int, field: int, value: int, *_: int) -> None:
    """Reads or sets a field of a section; only whether it is chosen matters here."""
    number = run.number(section)
    if not 0 <= number < len(run.script.sections):
        run.failed()
        return
    if field < 0 and -field - 1 == 2:  # sets its flags
        run.selected[number] = bool(run.number(value) & 1)
    elif field == 2:
        flags = run.script.sections[number].flags & ~1 | int(run.selected[number])
        assign(run, value, str(flags))
    elif field >= 0:
        assign(run, value, run.unknown(f"section {number}"))


@does(64)
def _kinds(run: ScriptRun, number: int, variable: int, sets: int, *_: int) -> None:
    if not sets:
        assign(run, variable, "0")
