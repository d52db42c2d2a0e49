"""Rules mean the same to every judge: on things, by the generated script, and as OVAL."""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import xml.etree.ElementTree as xml
from pathlib import Path
from typing import Any

import msgspec
import pytest
import rule_world as world
from conftest import missing

from yendo.detect import oval
from yendo.errors import NotCovered
from yendo.facts.versions import VersionRange
from yendo.package import manifest as form
from yendo.package import scripts
from yendo.plan.model import schema
from yendo.platforms.windows.surroundings import windows
from yendo.terms.rules import (
    KINDS,
    BaseRule,
    CapabilityRule,
    FeatureRule,
    FileRule,
    FolderRule,
    ProcessRule,
    Rule,
    ScriptRule,
    ShortcutRule,
    Sight,
    SystemPackageRule,
    UninstallEntryRule,
    fragment,
    function_of,
)

ENVIRONMENT = windows().environment
STATES = int(os.environ.get("YENDO_STATES", "150" if os.environ.get("CI") else "400"))
OTHERS: list[BaseRule] = [
    ProcessRule(name="a.exe"),
    FeatureRule(name="Tide"),
    CapabilityRule(name="Tide.Gauge~~~~0.0.1.0"),
    SystemPackageRule(name="Package_for_KB9900001", version=">=19041.4100"),
    ScriptRule(text="$true"),
    ShortcutRule(path=r"C:\a.lnk", target=r"C:\a.exe"),
]


@pytest.fixture
def interpreter() -> str:
    found = shutil.which("oscap")
    if found is None:
        missing("oscap", "apt-get install openscap-scanner openscap-common, to hold OVAL against another interpreter")
    assert found
    return found


def test_no_place_forgot_a_kind() -> None:
    """Each kind has a specimen, a function of the shell, a place in the plan's schema, and is written and read back alike."""
    assert {rule.kind for rule in [*world.RULES, *OTHERS]} == set(KINDS)
    published = json.dumps(schema())
    for rule in [*world.RULES, *OTHERS]:
        assert f"function {function_of(rule.kind)}(" in fragment(rule.kind)
        assert f'"{rule.kind}"' in published and rule.title and "\n" not in rule.title
        assert msgspec.convert(msgspec.to_builtins(rule), Rule) == rule
        assert f"'{rule.kind}' {{ return" in scripts.judging([scripts._rule(rule)])


def test_what_makes_a_rule_hold_does() -> None:
    """On a simulated machine a probe is made to hold: by each kind that can be made up, and only by it."""
    refused = set()
    for rule in [*world.RULES, *OTHERS]:
        sight = world.sight(tuple([0] * len(world.SLOTS)), dict(ENVIRONMENT))
        try:
            rule.fulfil(sight)
            holds, fact = rule.judge(sight)
        except NotCovered:
            refused.add(rule.kind)
            continue
        assert holds or rule.title.startswith("none"), (rule.title, fact)
    assert refused - {"file", "msi-product"} == {"identification-tag", "process", "script"}


@pytest.mark.parametrize(
    ("raw", "said"),
    [
        ({"kind": "uninstall-entry", "pattern": "*"}, "matches nearly every name"),
        ({"kind": "uninstall-entry", "pattern": "* 6.2"}, "matches nearly every name"),
        ({"kind": "uninstall-entry", "name": "a", "pattern": "Lantern*"}, "one of the two"),
        ({"kind": "msi-product"}, "one of the two"),
        ({"kind": "at-least", "count": 3, "of": [{"kind": "folder", "path": "C:\\a"}]}, "can never hold"),
        ({"kind": "registry", "key": "HKLM\\a", "number": "many"}, "no bound of a number"),
        ({"kind": "file", "path": "C:\\a", "changed": "yesterday"}, "no bound of a day"),
        ({"kind": "file-list", "folder": "C:\\a", "files": {"..\\b": 1}}, "does not lie below"),
        ({"kind": "driver", "inf": "tide"}, "ends in .inf"),
        ({"kind": "any", "of": []}, "length >= 1"),
    ],
)
def test_rules_that_say_nothing_are_refused(raw: dict[str, Any], said: str) -> None:
    with pytest.raises(msgspec.ValidationError, match=said):
        msgspec.convert(raw, Rule)


def test_groups_within_groups_have_an_end() -> None:
    raw: dict[str, Any] = {"kind": "folder", "path": "C:\\a"}
    for _ in range(12):
        raw = {"kind": "any", "of": [raw]}
    with pytest.raises(msgspec.ValidationError, match="deep"):
        msgspec.convert(raw, Rule)


@pytest.mark.parametrize(
    ("one", "other", "meet"),
    [
        (">=6", "<6", False),
        (">=6", "<=6", True),
        ("==6.2", ">6.2", False),
        (">6.2, <6.3", "==6.2.9", True),
        (">1", "<1.0.0.1", False),
    ],
)
def test_ranges_that_meet(one: str, other: str, meet: bool) -> None:
    assert VersionRange.parse(one).meets(VersionRange.parse(other)) is meet


# --- OVAL -------------------------------------------------------------------------------------------


def test_oval_is_valid_and_means_the_same(interpreter: str, tmp_path: Path) -> None:
    """Each rule in states of the world, interpreted by another program from what a scanner would have collected."""
    rules = [rule for rule in world.RULES if rule.title not in world.NO_OVAL]
    for number, choice in enumerate(world.walk(20, seed=5)):
        document, names, order = world.merged([choice], rules)
        (tmp_path / "definitions.xml").write_bytes(xml.tostring(document))
        (tmp_path / "found.xml").write_bytes(world.characteristics(document, names, dict(ENVIRONMENT)))
        if number == 0:
            checked = subprocess.run(
                [interpreter, "oval", "validate", "--definitions", "--schematron", str(tmp_path / "definitions.xml")],
                capture_output=True,
                text=True,
                timeout=60,
            )
            assert checked.returncode == 0, checked.stdout + checked.stderr
        call = [
            interpreter,
            "oval",
            "analyse",
            "--skip-validation",
            "--results",
            str(tmp_path / "results.xml"),
            str(tmp_path / "definitions.xml"),
            str(tmp_path / "found.xml"),
        ]
        subprocess.run(call, check=True, capture_output=True, timeout=60)
        results = {
            element.attrib["definition_id"]: element.attrib["result"]
            for element in xml.parse(tmp_path / "results.xml").iter()
            if element.tag.endswith("}definition") and "definition_id" in element.attrib
        }
        sight = world.sight(choice, dict(ENVIRONMENT))
        differing = [
            rule.title
            for rule, name in zip(rules, order, strict=True)
            if results[name] != str(rule.judge(sight)[0]).lower()
        ]
        assert not differing, (choice, differing)


def test_oval_is_refused_where_it_has_no_words(interpreter: str, tmp_path: Path) -> None:
    for rule in [
        FileRule(path=r"C:\a.exe", architecture="x64"),
        FileRule(path=r"C:\a.exe", signed_by="Tidewell"),
        ScriptRule(text="$true"),
        ShortcutRule(path=r"C:\a.lnk", target="C:\\a"),
    ]:
        with pytest.raises(NotCovered, match="OVAL"):
            oval.document([rule], identifier="a", name="a", version="1", revision=1, made="2026-11-23T00:00:00")
    others = [FeatureRule(name="Tide"), ProcessRule(name="a.exe"), ShortcutRule(path=r"%PUBLIC%\a.lnk")]
    one = oval.document(others, identifier="a b", name="a", version="1", revision=1, made="2026-11-23T00:00:00")
    assert one == oval.document(others, identifier="a b", name="a", version="1", revision=1, made="2026-11-23T00:00:00")
    path = tmp_path / "a.xml"
    path.write_bytes(one)
    assert (
        subprocess.run(
            [interpreter, "oval", "validate", "--definitions", "--schematron", str(path)], timeout=60
        ).returncode
        == 0
    )
    path.write_bytes(one.replace(b"check_existence", b"check_nothing"))  # the judge can say no
    assert (
        subprocess.run(
            [interpreter, "oval", "validate", "--definitions", str(path)], capture_output=True, timeout=60
        ).returncode
        != 0
    )


# --- the script -----------------------------------------------------------------------------------------


def _manifest(*rules: BaseRule) -> form.Manifest:
    return form.Manifest(
        id="tide",
        name="Tide",
        version="1",
        revision=1,
        publisher="",
        architecture="x64",
        scope="machine",
        logs="C:\\logs",
        install=(),
        uninstall=(),
        repair=(),
        detect=rules,
        files=(),
    )


@pytest.mark.wine
def test_the_script_means_the_same(shell_wine: Any) -> None:
    """The world walks through many states on a real machine, and each rule is judged in each by the real shell and by us."""
    choices = list(world.walk(STATES, seed=7))
    script, sources = world.harness(choices, world.RULES)
    with shell_wine.fresh() as real:
        for name, data in sources.items():
            real.write(name, data)
        real.write("C:\\harness.ps1", script)
        ran = real.run(r"powershell -NoProfile -ExecutionPolicy Bypass -File C:\harness.ps1 C:\said.txt", timeout=600)
        assert ran.exit_code == 0, ran.output[-2000:]
        lines = (real.read("C:\\said.txt") or b"").decode().splitlines()
        environment = real.surroundings.environment
    assert len(lines) == len(choices)
    for choice, line in zip(choices, lines, strict=True):
        sight = world.sight(choice, environment)
        differing = [
            rule.title for rule, bit in zip(world.RULES, line, strict=True) if (bit == "1") != rule.judge(sight)[0]
        ]
        assert not differing, (choice, differing)


@pytest.mark.wine
def test_what_only_a_machine_can_tell(shell_wine: Any) -> None:
    """Programs that run, scripts, shortcuts and signatures; and the two ways in which management systems are answered."""
    from yendo.detect import detected, sight_of

    rules = [
        (ProcessRule(name="PowerShell.exe"), True),
        (ProcessRule(name="lantern"), False),
        (ScriptRule(text="$a = [IO.Directory]::Exists('C:\\windows')\n$a"), True),
        (ScriptRule(text="'yes'"), False),
        (ScriptRule(text="throw 'no'"), False),
        (ShortcutRule(path=r"C:\tide.lnk", target=r"%SystemRoot%\notepad.exe"), True),
        (ShortcutRule(path=r"C:\tide.lnk", target=r"C:\other.exe"), False),
        (FileRule(path=r"%SystemRoot%\notepad.exe", signed_by="Tidewell"), False),
        (FileRule(path=r"%SystemRoot%\notepad.exe", architecture="x64"), True),
        (FeatureRule(name="Tide"), False),
    ]
    make = "$l = [Activator]::CreateInstance([Type]::GetTypeFromProgID('WScript.Shell')).CreateShortcut('C:\\tide.lnk')\r\n$l.TargetPath = 'C:\\windows\\notepad.exe'\r\n$l.Save()\r\n"
    with shell_wine.fresh() as real:
        real.write("C:\\make.ps1", make.encode())
        assert real.run(r"powershell -NoProfile -File C:\make.ps1", timeout=60).exit_code == 0
        real.write("C:\\detect.ps1", scripts.detection(_manifest(*(rule for rule, _ in rules))))
        ran = real.run(r"powershell -NoProfile -File C:\detect.ps1 -Facts", timeout=120)
        said = [line for line in ran.output.splitlines() if ": True, " in line or ": False, " in line]
        assert [": True, " in line for line in said] == [holds for _, holds in rules], ran.output
        ours = [(rule, holds) for rule, holds in rules if not isinstance(rule, ProcessRule | FeatureRule | FileRule)]
        sight = sight_of(real)
        assert [rule.judge(sight)[0] for rule, _ in ours] == [holds for _, holds in ours]
        answers = []
        for way in scripts.FORMS:
            for rule in (FolderRule(path=r"C:\windows"), FolderRule(path=r"C:\nowhere")):
                real.write("C:\\detect.ps1", scripts.detection(_manifest(rule), way))
                ran = real.run(r"powershell -NoProfile -File C:\detect.ps1", timeout=60)
                answers.append((ran.exit_code, ran.output.strip()))
                assert detected([rule], sight)[0] == (ran.exit_code == 0)
        name = "Tide 1, revision 1"
        assert answers == [(0, f"detected: {name}"), (1, ""), (0, f"detected: {name}"), (1, f"not detected: {name}")]


def test_what_cannot_be_told_from_a_state_alone() -> None:
    sight = Sight(world.sight(tuple([0] * len(world.SLOTS)), dict(ENVIRONMENT)).state, ENVIRONMENT)
    for rule in (ProcessRule(name="a"), ScriptRule(text="$true")):
        with pytest.raises(NotCovered):
            rule.judge(sight)
    assert UninstallEntryRule(name="Lantern").judge(sight) == (False, "no such entry")
