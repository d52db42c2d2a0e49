"""Derived rules tell the states apart, on simulated machines and on real ones, and their strength is measured."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Any

import generated
import pytest
from conftest import Yendo, parsed

from yendo.detect import detected, for_effects, sight_of
from yendo.detect.derive import candidates, derive
from yendo.detect.states import broken, listed, newer, older
from yendo.detect.strength import measure
from yendo.effects import File, State
from yendo.plan import read
from yendo.prove import ground
from yendo.terms.rules import FileRule, Sight

SAMPLE = int(os.environ.get("YENDO_WINE_SAMPLE", "1"))
PRODUCT_ONLY = 0.9  # no product-code-only rule reaches this on any of them


@pytest.mark.parametrize("seed", range(30))
def test_thirty_generated_packages(tmp_path: Path, seed: int) -> None:
    """Every listed state is told apart, nothing false, and at most ten rules catch at least 95 % of what may be broken."""
    updates = seed % 3 == 2
    _, package, others = generated.package(tmp_path, seed, updates=updates)
    made = ground.make(package, others, updates=updates)
    assert not made.missing and len(made.ground.others) == 2
    found = derive(made.ground, made.environment)
    rules = [one.rule for one in found.rules]
    assert found.confused == () and found.strength.false_absent == () and len(rules) <= 10
    for case in listed(made.ground):
        assert detected(rules, Sight(case.state, made.environment))[0] is case.wanted, case.name
    assert found.strength.score >= 0.95, found.strength
    alone = measure(for_effects(made.ground.effects)[:1], made.ground, made.environment)
    assert alone.score < PRODUCT_ONLY < found.strength.score
    counts = [measure(rules[:count], made.ground, made.environment).score for count in (1, 3, 5, 10)]
    assert counts == sorted(counts)
    assert measure(rules, made.ground, made.environment) == found.strength, "the same seed gives the same states"


def test_a_self_update_is_tolerated_only_where_the_plan_says_so(tmp_path: Path) -> None:
    _, package, others = generated.package(tmp_path, 4)
    for updates in (False, True):
        made = ground.make(package, others, updates=updates)
        wanted = {case.name: case.wanted for case in broken(made.ground)}
        assert wanted["the program updated its files"] is updates
        assert [counts for name, _, counts in made.ground.others if "6.2.3" in name] == [updates]
        rules = [one.rule for one in derive(made.ground, made.environment).rules]
        assert all("==" not in rule.title for rule in rules) is updates


def test_what_may_be_a_rule() -> None:
    """Candidates hold where the product is, and never ask for what people change."""
    from yendo.detect.states import Ground
    from yendo.effects import Effect, Environment, RegistryValue, Service, Shortcut, UninstallEntry
    from yendo.effects.things import Part
    from yendo.platforms.windows.surroundings import windows

    things = [
        File(r"C:\Program Files\Tide\tide.exe", 10, "a" * 64, "2.1"),
        File(r"C:\Program Files\Tide\tide.ini", 10, "b" * 64),
        File(r"C:\Users\mara\AppData\Local\tide.dat", 10, "c" * 64),
        UninstallEntry("Tide", name="Tide", version="2.1"),
        UninstallEntry("Tide parts", name="Tide parts", version="2.1", hidden=True),
        RegistryValue("HKLM", r"Software\Tide", "Depth", "dword", 3),
        RegistryValue("HKCU", r"Software\Tide", "Window", "sz", "1"),
        Service("TideSvc", "Tide", "tide", "auto"),
        Environment("TIDE", "x"),
        Environment("Path", "x"),
        Shortcut(r"C:\Users\Public\Desktop\Tide.lnk", r"C:\Program Files\Tide\tide.exe"),
        Part("task", "tide sync"),
        Part("driver", "tide.inf", "tide.inf="),
        Part("app", "Tide.App", "1.0.0.0"),
    ]
    before, after = State(), State(things)
    environment = windows("system").environment
    rules = candidates(Ground(before, after, tuple(Effect("add", thing) for thing in things)), environment)
    titles = "\n".join(rule.title for rule in rules)
    assert all(rule.judge(Sight(after, environment))[0] for rule in rules), titles
    assert (
        "%ProgramFiles%\\Tide\\tide.ini exists" in titles
        and "mara" not in titles
        and "HKCU" not in titles
        and "Tide parts" not in titles
    )
    assert {rule.kind for rule in rules} >= {
        "file",
        "file-list",
        "uninstall-entry",
        "registry",
        "service",
        "environment",
        "task",
        "driver",
        "app",
    }
    assert "variable Path" not in titles and "shortcut" not in titles


@pytest.mark.parametrize(
    ("version", "before", "after"),
    [
        ("6.2.1", "6.1.1.0", "6.3.1.0"),
        ("1.0", "0.0.0.0", "1.1.0.0"),
        ("0.0.0.5", "0.0.0.4", "0.1.0.5"),
        ("spring", "0.0.1", "9999.0"),
    ],
)
def test_versions_beside(version: str, before: str, after: str) -> None:
    assert (older(version), newer(version)) == (before, after)


@pytest.mark.thorough
def test_the_commands(yendo: Yendo, workspace: Path, vendor: Path, tmp_path: Path) -> None:
    """Derive into the plan, and the rules in it are then as strong as was said; export in three forms."""
    assert "no built package" in yendo("detect", "derive", workspace, expect=2).stderr
    path = workspace / "plan.toml"
    text = path.read_text("utf-8")
    product = text.index('[[detect]]\nkind = "msi-product"')
    path.write_text(text[: text.index("[[detect]]")] + text[product : text.index("[[", product + 2)], "utf-8")
    yendo("build", workspace)
    weak = parsed(yendo("detect", "strength", workspace, "--json", expect=None))
    said = parsed(yendo("detect", "derive", workspace, "--other", vendor / "lantern-6.1.0.msi", "--write", "--json"))
    assert said["confused"] == [] and any("6.1.0" in name for name in said["states"])
    assert "rules do it" in yendo("detect", "derive", workspace, "--most", "3", expect=None).stdout
    plan = read(workspace / "plan.toml")[0]
    assert [rule.title for rule in plan.detect] and len(plan.detect) == len(said["rules"])
    text = (workspace / "plan.toml").read_text("utf-8").replace("revision = 1", "revision = 2")
    (workspace / "plan.toml").write_text(text, "utf-8")
    yendo("build", workspace)
    strong = parsed(yendo("detect", "strength", workspace, "--json"))
    assert strong["strength"]["score"] > 0.95 > weak["strength"]["score"]
    assert "catch" in yendo("detect", "strength", workspace).stdout
    assert parsed(yendo("prove", workspace, "--json"))["passed"]
    for form, start in (("oval", b"<?xml"), ("json", b"{"), ("script", b"\xef\xbb\xbf#")):
        yendo("detect", "export", workspace, "--as", form, "-o", tmp_path / f"rules.{form}")
        assert (tmp_path / f"rules.{form}").read_bytes().startswith(start)
    assert "is not there" in yendo("detect", "derive", workspace, "--other", tmp_path / "nowhere.msi", expect=2).stderr
    assert "--most" in yendo("detect", "derive", workspace, "--most", "0", expect=2).stderr
    assert "not tried: " in yendo("detect", "derive", workspace, "--other", workspace / "plan.toml", expect=None).stdout


@pytest.mark.wine
@pytest.mark.parametrize("seed", range(SAMPLE))
def test_derived_rules_on_a_real_machine(tmp_path: Path, shell_wine: Any, seed: int) -> None:
    """Fresh, older, this version, damaged, removed: judged on what was really observed, by rules and by the script."""
    import time

    import msgspec

    from yendo.package import manifest as form
    from yendo.package import scripts

    _, package, others = generated.package(tmp_path, seed)
    made = ground.make(package, others)
    found = derive(made.ground, made.environment)
    rules = tuple(one.rule for one in found.rules)
    script = scripts.detection(msgspec.structs.replace(form.read(package), detect=rules))
    msi = next(package.rglob("*.msi"))
    with shell_wine.fresh("user") as real:
        real.bring(msi.parent, r"C:\new")
        real.bring(others[0].parent, r"C:\old")
        real.write(r"C:\detect.ps1", script)
        real.write(r"C:\nothing.ps1", b"exit 0\r\n")
        seconds, bare = [], []

        def timed(name: str, took: list[float]) -> int | None:
            begun = time.monotonic()
            code = real.run(rf"powershell -NoProfile -File C:\{name}", timeout=60).exit_code
            took.append(time.monotonic() - begun)
            return code

        def judged() -> tuple[bool, bool]:
            code = timed("detect.ps1", seconds)
            timed("nothing.ps1", bare)  # the machines are noisy: beside a script that does nothing
            return detected(rules, sight_of(real))[0], code == 0

        assert judged() == (False, False), "fresh"
        assert real.run(rf'msiexec /i "C:\old\{others[0].name}" /qn', timeout=120).exit_code == 0
        assert judged() == (False, False), "an older version"
        assert real.run(rf'msiexec /i "C:\new\{msi.name}" /qn', timeout=120).exit_code == 0
        after = real.state()
        assert judged() == (True, True), [(rule.title, rule.judge(sight_of(real))) for rule in rules]
        files = [
            thing
            for thing in after.of("file")
            if isinstance(thing, File)
            and "\\harbour generated" in thing.identity
            and not thing.identity.endswith(".ini")
        ]
        for file in files[:2]:
            data = real.read(file.path)
            real.write(file.path, data[: len(data) // 2])
            assert judged() == (False, False), f"{file.path} is cut off"
            real.write(file.path, data)
        assert judged() == (True, True)
        assert real.run(rf'msiexec /x "C:\new\{msi.name}" /qn', timeout=120).exit_code == 0
        assert judged() == (False, False), "removed"
        print(
            f"detection took {min(seconds):.2f} to {max(seconds):.2f} s, a script that does nothing {min(bare):.2f} s"
        )
        assert min(seconds) < 2 * min(bare) + 0.5
    assert FileRule
