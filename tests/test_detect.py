"""Detection: one meaning by rules and by script."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from yendo.detect import detected, for_effects, judge, seen
from yendo.effects import Effect, File, Product, RegistryValue, State, UninstallEntry
from yendo.plan import FileRule, MsiProductRule, RegistryRule, Rule, UninstallEntryRule
from yendo.platforms.windows.surroundings import windows

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


@pytest.mark.parametrize(("rule", "holds"), RULES, ids=[rule.title for rule, _ in RULES])
def test_rules(rule: Rule, holds: bool) -> None:
    verdict = judge(rule, seen(STATE, ENVIRONMENT))
    assert verdict.holds is holds and verdict.fact


def test_all_must_hold_and_none_detects_nothing() -> None:
    good = [rule for rule, holds in RULES if holds]
    assert detected(good, seen(STATE, ENVIRONMENT))[0] and not detected([], seen(STATE, ENVIRONMENT))[0]
    assert not detected([*good, FileRule(path=r"C:\nowhere")], seen(STATE, ENVIRONMENT))[0]


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
    assert [rule.title for rule in for_effects(effects, ["main.exe"])] == [
        f"product {CODE} ==6.2.1",
        "file C:\\p\\main.exe version >=6.2.1.0",
    ]
    assert for_effects(effects)[1].title == "file C:\\p\\helper.exe version >=1.0.0.0" and for_effects([]) == []


@given(st.sets(st.integers(0, len(RULES) - 1)), st.sets(st.integers(0, 5)))
def test_taking_things_away_never_makes_a_rule_true(chosen: set[int], gone: set[int]) -> None:
    rules = [RULES[at][0] for at in chosen]
    less = State(thing for at, thing in enumerate(STATE) if at not in gone)
    assert detected(rules, seen(STATE, ENVIRONMENT))[0] or not detected(rules, seen(less, ENVIRONMENT))[0]
