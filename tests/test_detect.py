"""Detection: one meaning by rules and by script."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from yendo.detect import detected, for_effects, judge
from yendo.detect.evaluate import describe
from yendo.effects import Effect, File, Product, RegistryValue, State, UninstallEntry
from yendo.facts.surroundings import windows
from yendo.package import manifest as form
from yendo.package import scripts
from yendo.plan import FileRule, MsiProductRule, RegistryRule, Rule, UninstallEntryRule

CODE = "{4E6AB892-57E7-52F8-B2B2-AB06096EDC9F}"
ENVIRONMENT = windows().environment
STATE = State(
    [
        Product(CODE, "Lantern", "6.2.1", 2057, "machine"),
        File(r"C:\Program Files\Tidewell\a.exe", 100, "ab" * 32, "6.2.1.0"),
        File(r"C:\ProgramData\note.txt", 5, "cd" * 32),
        RegistryValue("HKLM", r"Software\Tidewell", "Version", "sz", "6.2.1"),
        RegistryValue("HKLM", r"Software\Tidewell", "Depth", "dword", 120, "32"),
        UninstallEntry(CODE, "HKLM", "64", "Lantern", "6.2.1", "Tidewell"),
    ]
)

RULES: list[tuple[Rule, bool]] = [
    (MsiProductRule(code=CODE), True),
    (MsiProductRule(code=CODE.lower(), version="==6.2.1"), True),
    (MsiProductRule(code=CODE, version=">6.2.1"), False),
    (MsiProductRule(code="{00000000-0000-0000-0000-000000000001}"), False),
    (FileRule(path=r"%ProgramFiles%\Tidewell\A.EXE"), True),
    (FileRule(path=r"%ProgramFiles%\Tidewell\a.exe", version=">=6.2, <7"), True),
    (FileRule(path=r"%ProgramFiles%\Tidewell\a.exe", version=">=6.3"), False),
    (FileRule(path=r"%ProgramFiles%\Tidewell\b.exe"), False),
    (FileRule(path=r"%ProgramData%\note.txt", version=">=1"), False),
    (FileRule(path=r"%ProgramData%\note.txt", size=5), True),
    (FileRule(path=r"%ProgramData%\note.txt", size=6), False),
    (FileRule(path=r"%ProgramData%\note.txt", sha256="cd" * 32), True),
    (FileRule(path=r"%ProgramData%\note.txt", sha256="ce" * 32), False),
    (RegistryRule(key=r"HKLM\Software\Tidewell", name="version"), True),
    (RegistryRule(key=r"HKEY_LOCAL_MACHINE\Software\Tidewell", name="Version", equals="6.2.1"), True),
    (RegistryRule(key=r"HKLM\Software\Tidewell", name="Version", equals="6.2"), False),
    (RegistryRule(key=r"HKLM\Software\Tidewell", name="Version", version=">=6"), True),
    (RegistryRule(key=r"HKLM\Software\Tidewell", name="Depth"), False),
    (RegistryRule(key=r"HKLM\Software\Tidewell", name="Depth", equals=120, view="32"), True),
    (UninstallEntryRule(name="Lantern"), True),
    (UninstallEntryRule(name="Lantern", version="==6.2.1", view="64"), True),
    (UninstallEntryRule(name="Lantern", view="32"), False),
    (UninstallEntryRule(name="lantern"), False),
    (UninstallEntryRule(name="Lantern", version="<6"), False),
]


@pytest.mark.parametrize(("rule", "holds"), RULES, ids=[describe(rule) for rule, _ in RULES])
def test_rules(rule: Rule, holds: bool) -> None:
    verdict = judge(rule, STATE, ENVIRONMENT)
    assert verdict.holds is holds and verdict.fact


def test_all_must_hold_and_none_detects_nothing() -> None:
    good = [rule for rule, holds in RULES if holds]
    assert detected(good, STATE, ENVIRONMENT)[0] and not detected([], STATE, ENVIRONMENT)[0]
    assert not detected([*good, FileRule(path=r"C:\nowhere")], STATE, ENVIRONMENT)[0]


def test_derived_rules_ask_for_version_and_program() -> None:
    effects = [
        Effect("add", thing)
        for thing in (
            Product(CODE, "L", "6.2.1"),
            File("C:\\p\\helper.exe", 900, None, "1.0.0.0"),
            File("C:\\p\\main.exe", 10, None, "6.2.1.0"),
            File("C:\\p\\read.me", 5),
        )
    ]
    assert [describe(rule) for rule in for_effects(effects, ["main.exe"])] == [f"product {CODE} ==6.2.1", "file C:\\p\\main.exe version >=6.2.1.0"]
    assert describe(for_effects(effects)[1]) == "file C:\\p\\helper.exe version >=1.0.0.0" and for_effects([]) == []


@given(st.sets(st.integers(0, len(RULES) - 1)), st.sets(st.integers(0, 5)))
def test_taking_things_away_never_makes_a_rule_true(chosen: set[int], gone: set[int]) -> None:
    rules = [RULES[at][0] for at in chosen]
    less = State(thing for at, thing in enumerate(STATE) if at not in gone)
    assert detected(rules, STATE, ENVIRONMENT)[0] or not detected(rules, less, ENVIRONMENT)[0]


@pytest.mark.wine
def test_the_script_means_the_same(shell_wine: Any, tmp_path: Path) -> None:
    """Each rule of the table on a real machine that is made to look like the state, by the script and by the rules."""
    from yendo.demo.vendor import PROGRAMS

    with shell_wine.fresh() as real:
        real.make_folder(r"C:\Program Files\Tidewell")
        real.write(r"C:\Program Files\Tidewell\a.exe", (PROGRAMS / "lantern-6.2.1.exe").read_bytes())
        real.write(r"C:\ProgramData\note.txt", b"12345")
        installer = (
            rf"HKLM\Software\Microsoft\Windows\CurrentVersion\Installer\UserData\S-1-5-18\Products\{scripts.pack_code(CODE)}\InstallProperties"
        )
        listed = rf"HKLM\Software\Microsoft\Windows\CurrentVersion\Uninstall\{CODE}"
        adds = [
            (installer, "DisplayVersion", "REG_SZ", "6.2.1", ""),
            (listed, "DisplayVersion", "REG_SZ", "6.2.1", ""),
            (listed, "DisplayName", "REG_SZ", "Lantern", ""),
            (r"HKLM\Software\Tidewell", "Version", "REG_SZ", "6.2.1", ""),
            (r"HKLM\Software\Tidewell", "Depth", "REG_DWORD", "120", "/reg:32"),
        ]
        batch = "\r\n".join(f'reg add "{key}" /v {name} /t {kind} /d {data} /f {view}' for key, name, kind, data, view in adds)
        (real.host("C:\\") / "prepare.bat").write_text(batch, newline="")
        assert real.run(r"call C:\prepare.bat", timeout=120).exit_code == 0
        import hashlib

        digest = hashlib.sha256(b"12345").hexdigest()
        rules = [FileRule(path=rule.path, sha256=digest) if isinstance(rule, FileRule) and rule.sha256 == "cd" * 32 else rule for rule, _ in RULES]
        manifest = form.Manifest(
            id="judge",
            name="judge",
            version="1",
            revision=1,
            publisher="",
            architecture="x64",
            scope="machine",
            logs="C:\\logs",
            install=(),
            uninstall=(),
            repair=(),
            detect=tuple(rules),
            files=(),
        )
        (real.host("C:\\") / "detect.ps1").write_bytes(scripts.detection(manifest))
        ran = real.run(r"powershell -NoProfile -ExecutionPolicy Bypass -File C:\detect.ps1 -Facts", timeout=120)
        said = [line.rpartition(": ")[2].startswith("True") for line in ran.output.splitlines() if ": True," in line or ": False," in line]
        state = real.state()
        assert ran.exit_code == 1 and said == [holds for _, holds in RULES], ran.output
        assert [judge(rule, state, real.surroundings.environment).holds for rule in rules] == [holds for _, holds in RULES]
