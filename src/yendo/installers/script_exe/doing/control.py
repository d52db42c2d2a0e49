"""Jumps, decisions, flags, message boxes."""

from __future__ import annotations

from yendo.installers.script_exe import run as core
from yendo.installers.script_exe.doing.files import matching
from yendo.installers.script_exe.doing.table import does
from yendo.installers.script_exe.run import Asked, ScriptRun


@does(0)
def _invalid(run: ScriptRun, *_: int) -> None:
    run.spot("an invalid instruction", "a stub stops there")
    run.stop()


@does(2)
def _jump(run: ScriptRun, to: int, *_: int) -> int | None:
    return run.jump(to)


@does(3)
def _abort(run: ScriptRun, *_: int) -> None:
    run.flags[core.ABORTED] = 1
    run.stop()


@does(4)
def _quit(run: ScriptRun, *_: int) -> None:
    run.flags[core.ABORTED] = run.flags[core.ABORTED] or 1
    run.stop()


@does(13)
def _set_flag(run: ScriptRun, number: int, value: int, back: int, *_: int) -> None:
    if 0 <= number < len(run.flags):
        if back:
            run.flags[number] = run.remembered[number]
        else:
            run.remembered[number] = run.flags[number]
            run.flags[number] = run.number(value)


@does(14)
def _if_flag(run: ScriptRun, on: int, off: int, number: int, mask: int, *_: int) -> int | None:
    value = run.flags[number] if 0 <= number < len(run.flags) else 0
    if 0 <= number < len(run.flags):
        run.flags[number] &= mask
    return run.jump(on if value else off)


@does(15)
def _get_flag(run: ScriptRun, variable: int, number: int, *_: int) -> None:
    run.variables[variable] = str(run.flags[number] if 0 <= number < len(run.flags) else 0)


@does(22)
def _message(
    run: ScriptRun, flags: int, text: int, first: int, to_first: int, second: int, to_second: int
) -> int | None:
    """A message box: when silent it takes the answer that the script gives it, and shows where it gives none."""
    answer = (flags & 0xFFFFFFFF) >> 21 or None
    run.asked.append(Asked(core.shown(run.text(text)), answer, run.here.number if run.here else -1))
    given = answer or 1
    if given == first:
        return run.jump(to_first)
    if given == second:
        return run.jump(to_second)
    return None


@does(12)
def _if_exists(run: ScriptRun, path: int, there: int, missing: int, *_: int) -> int | None:
    text = run.text(path)
    if run.is_unknown(text):
        run.spot(f"whether {text} exists", "its name hangs on something that only a run knows; read as missing")
        return run.jump(missing)
    return run.jump(there if matching(run, text) else missing)


@does(26)
def _compare_texts(run: ScriptRun, one: int, other: int, same: int, different: int, exact: int, *_: int) -> int | None:
    left, right = run.text(one), run.text(other)
    if run.is_unknown(left + right):
        run.spot(f"whether {left} is {right or 'empty'}", "only a run knows; read as not so")
        return run.jump(different)
    return run.jump(same if (left == right if exact else left.lower() == right.lower()) else different)


@does(28)
def _compare_numbers(
    run: ScriptRun, one: int, other: int, same: int, less: int, more: int, unsigned: int
) -> int | None:
    if run.is_unknown(run.text(one) + run.text(other)):
        run.spot(f"how {run.text(one)} compares with {run.text(other)}", "only a run knows; read as equal")
        return run.jump(same)
    left, right = run.number(one), run.number(other)
    if unsigned & 1:
        left, right = left & 0xFFFFFFFF, right & 0xFFFFFFFF
    return run.jump(same if left == right else less if left < right else more)
