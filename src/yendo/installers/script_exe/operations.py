"""The operations of a compiled script: their numbers, our names for them, and what their operands are.

Source: the format as found in files; the numbers were checked by letting a real stub interpret
instructions that our tests wrote (tests/wine). Letters: s a text, v a variable that is written,
n a number, j a jump, w a text that is a number, - not used.
"""

from __future__ import annotations

import msgspec

from yendo.formats.script_exe import Instruction, ScriptExe
from yendo.installers.script_exe.texts import Texts, variable_name


class Operation(msgspec.Struct, frozen=True):
    name: str
    operands: str


def _op(name: str, operands: str = "") -> Operation:
    return Operation(name, operands.ljust(6, "-"))


OPERATIONS: dict[int, Operation] = {
    0: _op("invalid"),
    1: _op("return"),
    2: _op("jump", "j"),
    3: _op("abort", "s"),
    4: _op("quit"),
    5: _op("call", "j"),
    6: _op("detail", "s"),
    7: _op("sleep", "w"),
    8: _op("to front"),
    9: _op("details view", "nn"),
    10: _op("set attributes", "sn"),
    11: _op("make folder", "sn"),
    12: _op("if exists", "sjj"),
    13: _op("set flag", "nwn"),
    14: _op("if flag", "jjnn"),
    15: _op("get flag", "vn"),
    16: _op("rename", "ssn"),
    17: _op("full path", "vsn"),
    18: _op("search path", "vs"),
    19: _op("temporary name", "vs"),
    20: _op("place file", "nsnnnn"),
    21: _op("delete file", "sn"),
    22: _op("message box", "nsnjnj"),
    23: _op("remove folder", "sn"),
    24: _op("length", "vs"),
    25: _op("assign", "vsww"),
    26: _op("compare texts", "ssjjn"),
    27: _op("environment", "vsn"),
    28: _op("compare numbers", "wwjjjn"),
    29: _op("calculate", "vwwn"),
    30: _op("format number", "vsw"),
    31: _op("stack", "sjn"),
    32: _op("find window", "vssww"),
    33: _op("send message", "vswssn"),
    34: _op("is window", "wjj"),
    35: _op("get control", "vww"),
    36: _op("colours", "wn"),
    37: _op("branding", "s"),
    38: _op("font", "vswwn"),
    39: _op("show window", "wwn"),
    40: _op("open", "sssn"),
    41: _op("run", "snn"),
    42: _op("file time", "vvs"),
    43: _op("file version", "vvs"),
    44: _op("call library", "ssnn"),
    45: _op("shortcut", "ssssns"),
    46: _op("copy files", "ssn"),
    47: _op("restart", "n"),
    48: _op("write ini", "ssssn"),
    49: _op("read ini", "vsss"),
    50: _op("delete registry", "nnssn"),
    51: _op("write registry", "nsssnn"),
    52: _op("read registry", "vnssn"),
    53: _op("list registry", "vnswn"),
    54: _op("close file", "w"),
    55: _op("open file", "vnns"),
    56: _op("write to file", "wsn"),
    57: _op("read from file", "wvwn"),
    58: _op("seek in file", "wvwn"),
    59: _op("close search", "w"),
    60: _op("next found", "vw"),
    61: _op("first found", "vvs"),
    62: _op("write uninstaller", "snns"),
    63: _op("set section", "wnn"),
    64: _op("set kind", "wnn"),
    65: _op("label"),
    66: _op("function"),
    67: _op("lock window", "w"),
    68: _op("write wide to file", "wsn"),
    69: _op("read wide from file", "wvwn"),
}


def operation_of(script: ScriptExe, instruction: Instruction) -> Operation:
    return OPERATIONS.get(instruction.operation, _op(f"unknown {instruction.operation}", "nnnnnn"))


def listing(script: ScriptExe, texts: Texts) -> list[str]:
    """Every instruction as one line: number, name, operands."""
    lines = []
    for instruction in script.instructions:
        operation = operation_of(script, instruction)
        words = []
        for letter, value in zip(operation.operands, instruction.operands, strict=True):
            if letter in "sw":
                words.append(f'"{texts.shown(value)}"')
            elif letter == "v":
                words.append(variable_name(value) if value >= 0 else "-")
            elif letter == "j":
                words.append(
                    f"->{value - 1}" if value > 0 else "next" if value == 0 else f"->{variable_name(-value - 1)}"
                )
            elif letter == "n":
                words.append(str(value) if -10000 < value < 10000 else f"{value & 0xFFFFFFFF:#x}")
        lines.append(f"{instruction.number:5} {operation.name:16} {', '.join(words)}")
    return lines
