"""Kinds of steps are made of the same operations in both languages, and change nothing beside them."""

from __future__ import annotations

import ast
import re
from functools import cache
from pathlib import Path

import pytest

from yendo.steps import KINDS, fragment
from yendo.steps.operations import BY_NAME, OPERATIONS
from yendo.terms import events

STEPS = Path(__file__).parents[1] / "src" / "yendo" / "steps"
PACKAGE = STEPS.parent / "package"
# What one of the two does besides, and why.
MORE_IN_THE_SHELL = {
    "shortcut": ({"own-file", "claim"}, "the system makes the link in a file of the runner's first, and compares its words"),
    "include": ({"run"}, "the interpreter carries the inner package out itself"),
    "system-upgrade": ({"run"}, "it is started beside the usual way, which would end it when its time is over"),
}  # fmt: skip
# What only touches files of the runner's own, in its room on the machine.
OWN = re.compile(
    r"\[IO\.File\]::(WriteAll\w+|AppendAll\w+|Delete|Move|Copy|Replace)\(|\[IO\.Directory\]::(CreateDirectory|Delete|Move)\("
)
BESIDE = re.compile(r"\.(SetValue|DeleteValue|DeleteSubKey\w*|CreateSubKey)\(|(?<![\w-])Set-Value(?![\w-])")
OUR_ROOM = re.compile(r"\$(Room|kept|before|mark|beside|facts)\b", re.I)


@cache
def shell() -> dict[str, str]:
    """The runner's functions by their names."""
    found: dict[str, str] = {}
    for path in sorted(PACKAGE.glob("*.ps1")):
        text = path.read_text("utf-8")
        for part in re.split(r"^(?=function )", text, flags=re.M)[1:]:
            body = re.split(r"^(?=#|\S)", part, flags=re.M)
            found[part[9:].split("(")[0].split(" ")[0].strip()] = "".join(body[:2]) + (
                body[2] if len(body) > 2 and body[2].startswith("}") else ""
            )
    return found


def calls(text: str, names: set[str]) -> set[str]:
    return {name for name in names if re.search(rf"(?<![\w-]){re.escape(name)}(?![\w-])", text)}


@cache
def shell_closure(name: str) -> str:
    """A function's text with that of all that it calls."""
    seen, todo = {name}, [name]
    while todo:
        for other in calls(shell()[todo.pop()], set(shell())) - seen:
            if other != "Tell":
                seen.add(other)
                todo.append(other)
    return "\n".join(shell()[one] for one in sorted(seen))


@cache
def host_methods() -> dict[str, ast.FunctionDef]:
    tree = ast.parse((STEPS / "host.py").read_text("utf-8"))
    (host,) = (node for node in tree.body if isinstance(node, ast.ClassDef) and node.name == "Host")
    return {node.name: node for node in host.body if isinstance(node, ast.FunctionDef)}


def host_closure(name: str) -> list[ast.FunctionDef]:
    seen, todo = {name}, [name]
    while todo:
        for node in ast.walk(host_methods()[todo.pop()]):
            own = isinstance(node, ast.Attribute) and isinstance(node.value, ast.Name) and node.value.id == "self"
            if own and node.attr in host_methods() and node.attr not in seen:  # type: ignore[union-attr]
                seen.add(node.attr)  # type: ignore[union-attr]
                todo.append(node.attr)  # type: ignore[union-attr]
    return [host_methods()[one] for one in sorted(seen)]


@pytest.mark.parametrize("name", BY_NAME)
def test_each_is_there_in_both_languages(name: str) -> None:
    """Its functions are there; they write the lines of the record that are declared, and tell the same events."""
    one = BY_NAME[name]
    functions = [place for place in one.shell if place in shell()]
    assert functions or name == "own-file"
    methods = [place for place in one.host if not place.startswith("session.")]
    assert all(place in host_methods() for place in methods)
    if name in ("own-file", "drop-folder", "drop-key") or one.records == "*":
        return
    letters = {
        letter for place in functions for letter in re.findall(r"Add-(?:Record|Found) '([A-Z])'", shell_closure(place))
    }
    written = {
        node.args[0].value
        for place in methods
        for function in host_closure(place)
        for node in ast.walk(function)
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute) and node.func.attr in ("remember", "found_so")
        and node.args and isinstance(node.args[0], ast.Constant)
    }  # fmt: skip
    told = {tag for place in functions for tag in re.findall(r"\bTell ([a-z][a-z-]+)", shell_closure(place))}
    said = {
        events.table()[_tag(node.attr)].name()
        for place in methods
        for function in host_closure(place)
        for node in ast.walk(function)
        if isinstance(node, ast.Attribute) and isinstance(node.value, ast.Name) and node.value.id == "events"
        and _tag(node.attr) in events.table()
    }  # fmt: skip
    both = {tag for tag in told | said if events.table()[tag].by == "both"}
    assert told & both == said & both, told ^ said
    if name != "claim":
        assert letters == written, (letters, written)
        assert written == set(one.records), written


def _tag(name: str) -> str:
    return re.sub(r"(?<!^)(?=[A-Z])", "-", name).lower()


def by_python(name: str) -> set[str]:
    tree = ast.parse((STEPS / f"{name.replace('-', '_')}.py").read_text("utf-8"))
    used = (
        {"run"} if any(isinstance(node, ast.Name) and node.id == "run_or_assume" for node in ast.walk(tree)) else set()
    )
    for node in ast.walk(tree):
        if not isinstance(node, ast.Attribute):
            continue
        place = ast.unparse(node)
        used |= {one.name for one in OPERATIONS if place in [f"host.{each}" for each in one.host]}
    return used


def by_shell(name: str) -> set[str]:
    text = fragment(name)
    used = set()
    for one in OPERATIONS:
        if any(re.search(rf"(?<![\w-]){re.escape(each)}(?![\w-])", text) for each in one.shell):
            used.add(one.name)
    for line in text.splitlines():
        if OWN.search(line):
            assert OUR_ROOM.search(line), f"{name} changes files beside the operations: {line.strip()}"
            used.add("own-file")
        assert not BESIDE.search(line), f"{name} changes the registry beside the operations: {line.strip()}"
    return used


@pytest.mark.parametrize("name", [name for name, kind in KINDS.items() if not kind.composed])
def test_a_kind_is_the_same_operations_in_both(name: str) -> None:
    more, _ = MORE_IN_THE_SHELL.get(name, (set(), ""))
    python = by_python(name)
    if name == "system-upgrade":  # its parts are carried out by one kind
        python.discard("run")
    assert by_shell(name) - more == python - more, (by_shell(name), python)
