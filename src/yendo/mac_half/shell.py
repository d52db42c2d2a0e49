"""Scripts for the system's shell: POSIX ``sh``, the functions of ``runner.sh`` that they call, every value quoted."""

from __future__ import annotations

import re
import shlex
from collections.abc import Sequence
from functools import cache
from importlib.resources import files

from yendo.mac_half.model import PlistValue

_HEAD = """#!/bin/sh
# {title}
# Made by Yendo from a plan; change the plan, not this file.
set -u
PATH=/usr/bin:/bin:/usr/sbin:/sbin
export PATH
"""


def call(name: str, *arguments: str) -> str:
    """A line that calls a function or program with these arguments, whatever is in them."""
    return " ".join([name, *(shlex.quote(one) for one in arguments)])


@cache
def _functions() -> dict[str, str]:
    text = files("yendo.mac_half").joinpath("runner.sh").read_text("utf-8")
    blocks = re.split(r"\n\n(?=# ---|# [A-Z]|[a-z_]+\(\))", text.strip())
    return {found[1]: block for block in blocks if (found := re.search(r"^([a-z_]+)\(\) \{$", block, re.M))}


def script(title: str, lines: Sequence[str]) -> str:
    """A whole script: what it calls stands before it, in the order of the library."""
    known = _functions()
    wanted = {name for name in known if any(_calls(name, line) for line in lines)}
    while more := {name for name in known if any(_calls(name, known[one]) for one in wanted)} - wanted:
        wanted |= more
    body = "\n\n".join(known[name] for name in known if name in wanted)
    # one line of comment, whatever the name of the program holds
    head = _HEAD.format(title=re.sub(r"[\x00-\x1f\x7f]", " ", title))
    return head + (f"\n{body}\n" if body else "") + "\n" + "\n".join(lines) + "\n"


def _calls(name: str, text: str) -> bool:
    return re.search(rf"(?<![\w-]){name}(?![\w(-])", text) is not None


def plist_words(value: PlistValue) -> list[str]:
    """A value as ``defaults write`` takes it."""
    if isinstance(value, bool):
        return ["-bool", "true" if value else "false"]
    if isinstance(value, int):
        return ["-int", str(value)]
    if isinstance(value, float):
        return ["-float", repr(value)]
    if isinstance(value, str):
        return ["-string", value]
    if isinstance(value, list):
        return ["-array", *value]
    words = ["-dict"]
    for key, inner in value.items():
        words += [key, *plist_words(inner)]
    return words
