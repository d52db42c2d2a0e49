"""The house as it was rebuilt: no circles between modules, no function that cannot be seen whole."""

from __future__ import annotations

import ast
from pathlib import Path

import pytest
from sources import parsed

LONGEST = 60


def test_no_module_needs_itself() -> None:
    """Also by the types alone: what is imported for the type checker counts."""
    grimp = pytest.importorskip("grimp")
    graph = grimp.build_graph("yendo")
    needs = {module: set(graph.find_modules_directly_imported_by(module)) for module in graph.modules}
    while free := {module for module, others in needs.items() if not others & needs.keys()}:
        for module in free:
            del needs[module]
    # what is left needs something that is left: a circle, or stands above one
    assert not needs, {module: sorted(others & needs.keys()) for module, others in needs.items()}


def test_who_takes_turns_is_there() -> None:
    """Every name of ``turns.txt`` is a test: one that was renamed would silently run each time."""
    here = Path(__file__).parent
    for line in (here / "turns.txt").read_text("utf-8").splitlines()[1:]:
        file, _, name = line.partition("::")
        assert f"def {name.partition('[')[0]}(" in (here / file).read_text("utf-8"), line


def test_few_functions_decide_much() -> None:
    """By the number of ways through them: none has more than 25, and at most fifteen have more than 20."""
    visitors = pytest.importorskip("radon.visitors")

    found = {}
    for path, tree in parsed().items():
        for block in visitors.ComplexityVisitor.from_ast(tree).blocks:
            for one in (block, *getattr(block, "methods", ())):
                if type(one).__name__ == "Function" and one.complexity > 20:
                    found[f"{path}: {one.fullname}"] = one.complexity
    assert len(found) <= 15 and max(found.values()) <= 25, sorted(found.items(), key=lambda item: -item[1])


def test_functions_are_short_enough_to_be_seen_whole() -> None:
    long = []
    for path, tree in parsed().items():
        for node in ast.walk(tree):
            if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef):
                length = (node.end_lineno or 0) - node.lineno + 1
                long += [(path, node.name, length)] if length > LONGEST else []
    assert not long
