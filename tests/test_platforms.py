"""What only Windows has is known in Windows' own rooms, and in a short list of places that say why."""

from __future__ import annotations

import ast
import re
from collections.abc import Iterator

import pytest
from sources import parsed

# Rooms that are Windows': its formats and installers, kinds of steps and rules, machines, forms of packages, parts.
OWN = (
    "platforms/windows/", "formats/", "installers/", "steps/", "terms/rules/", "machines/", "forms/", "drivers/",
    "servicing/", "demo/",
)  # fmt: skip
CODES = {1602, 1603, 1605, 1618, 1638, 1641, 3010}  # of the Windows Installer
# What begins as a path, a key or a variable of Windows does, or has a folder between two separators in it.
KNOWN = re.compile(
    r"[A-Za-z]:(\\|$)|HK(LM|CU|CR|U)\b|HKEY_|%(Program|System|WinDir|Local|App|User|Temp|Public|All)\w*|\\|.*\w\\\w[^ ]*$",
    re.I,
)
# How many such literals a module may have at most, and why it has them.
ALLOWED = {
    "cli/drivers_report.py": (1, "an example"),
    "cli/fleet_command.py": (1, "an example"),
    "draft/materials.py": (1, "where files go that nobody said a place for"),
    "draft/setups.py": (1, "where programs lie that a person wrote down"),
    "effects/things.py": (8, "the identities of what only Windows has; the separators of both"),
    "fleet/page.py": (3, "characters of a script"),
    "host_os/mounts.py": (1, "what a path of Linux may hold"),
    "mac/findings.py": (7, "patterns of shell"),
    "mac_half/detection.py": (1, "what a name there may hold"),
    "mac_half/machine/standins/settings.py": (1, "a pattern"),
    "mac_half/machine/standins/tools.py": (1, "a character"),
    "package/scripts.py": (1, "a replacement"),
    "plan/mistakes.py": (4, "how paths and keys are written, in words for people"),
    "plan/model.py": (1, "the usual folder of logs"),
    "prove/ground.py": (1, "another folder, as a person would choose it"),
}


def literals(tree: ast.Module) -> Iterator[tuple[int, str | int]]:
    """Texts and numbers of a module, but for docstrings, and patterns of ``re``: their backslashes are their own."""
    left: set[int] = set()
    for node in ast.walk(tree):
        if isinstance(node, ast.Expr) and isinstance(node.value, ast.Constant):
            left.add(id(node.value))
        if not isinstance(node, ast.Call):
            continue
        who = ast.unparse(node.func)
        if who.startswith("re.") or who == "Meta":
            given = [*node.args, *(word.value for word in node.keywords)]
            left |= {id(inner) for argument in given for inner in ast.walk(argument)}
    for node in ast.walk(tree):
        if isinstance(node, ast.Constant) and id(node) not in left and type(node.value) in (str, int):
            yield node.lineno, node.value


def found(tree: ast.Module) -> list[tuple[int, str | int]]:
    return [
        (line, value)
        for line, value in literals(tree)
        if (value in CODES if isinstance(value, int) else KNOWN.match(value))
    ]


def test_windows_is_known_in_its_own_rooms() -> None:
    """Drives, hives, variables, separators and exit codes, module by module against the list; none has room to spare."""
    known = {}
    for name, tree in sorted(parsed().items()):
        if not name.startswith(OWN) and (here := found(tree)):
            known[name] = here
    wrong = {name: here for name, here in known.items() if len(here) > ALLOWED.get(name, (0, ""))[0]}
    assert not wrong
    loose = {name: most for name, (most, _) in ALLOWED.items() if len(known.get(name, ())) < most}
    assert not loose, f"these have fewer now, so the list says more than is so: {loose}"


@pytest.mark.parametrize(
    ("text", "sees"),
    [
        ('x = "C:\\\\Program Files"', True), ("x = r'HKLM\\Software'", True), ('x = folder + "\\\\"', True),
        ('x = "%ProgramData%"', True), ("x = code == 3010", True), ('x = rf"{home}\\state"', True),
        ('"""C:\\\\a"""', False), ('x = re.compile(r"\\d")', False), ('x = "a sentence about HKLM"', False),
        ('x = "/opt/tidewell"', False), ("x = 300", False),
    ],
)  # fmt: skip
def test_what_counts_as_knowing_it(text: str, sees: bool) -> None:
    assert bool(found(ast.parse(text))) is sees
