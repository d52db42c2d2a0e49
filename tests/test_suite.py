"""Suites: who is in, in which order, what is shared, what a person has to do; built, proved, and refused where it goes round."""

from __future__ import annotations

import json
import shutil
from pathlib import Path
from typing import Any

import pytest
from conftest import Yendo, parsed

from yendo.machines.simulated.machine import SimulatedMachine, SimulatedSession
from yendo.package import carry
from yendo.package import manifest as form
from yendo.prove.prove import prove

PLAN = """[package]
id = "{id}"
name = "{name}"
version = "{version}"
language = "{language}"

{more}
[[install]]
kind = "copy"
from = "extras/data.txt"
to = 'C:\\Marrowby\\{id}\\data.txt'
timeout = "1 min"

[[detect]]
kind = "file"
path = 'C:\\Marrowby\\{id}\\data.txt'
sha256 = "3a6eb0790f39ac87c94f3856b2dd2c5d110e6811602261a9a923d3bb23adc8b7"
"""
SUITE = """[suite]
id = "survey-desk"
name = "Survey desk"
version = "2026.11"
{head}
"""


def product(
    folder: Path,
    identifier: str,
    *,
    version: str = "1.0",
    language: str = "",
    more: str = "",
    build: Yendo | None = None,
) -> Path:
    place = folder / identifier
    (place / "extras").mkdir(parents=True, exist_ok=True)
    (place / "extras" / "data.txt").write_text("data")
    (place / "plan.toml").write_text(
        PLAN.format(id=identifier, name=identifier.title(), version=version, language=language, more=more), "utf-8"
    )
    if build:
        build("build", place)
    return place


def need(package: str, version: str) -> str:
    return f'[[need]]\npackage = "{package}"\nversion = "{version}"\nfrom = "extras/{package}"\n'


def suite(folder: Path, *products: str, head: str = "") -> Path:
    place = folder / "desk"
    place.mkdir(exist_ok=True)
    (place / "suite.toml").write_text(
        SUITE.format(head=head) + "".join(f"\n[[product]]\n{text}\n" for text in products), "utf-8"
    )
    return place


@pytest.fixture
def shared(tmp_path: Path, yendo: Yendo) -> Path:
    """Two programs that bring a runtime of two versions along, and charts that come after the second of them."""
    for version in ("3.0", "3.2"):
        runtime = product(tmp_path, "runtime", version=version, build=yendo)
        shutil.move(str(runtime / "package" / f"runtime-{version}-r1"), str(tmp_path / f"runtime-{version}"))
    for name, wanted, copy in (("lantern", ">=3", "3.0"), ("sounder", ">=3.1", "3.2")):
        shutil.copytree(
            tmp_path / f"runtime-{copy}", product(tmp_path, name, more=need("runtime", wanted)) / "extras" / "runtime"
        )
    product(tmp_path, "charts")
    return tmp_path


def run(package: Path, verb: str, session: Any) -> carry.Carried:
    folder = r"C:\Hand over\desk"
    session.bring(package, folder)
    return carry.carry(form.read(package), package, session, verb, folder=folder, sleep=lambda _: None)


def test_in_order_with_what_is_shared_once(shared: Path, yendo: Yendo) -> None:
    """The newest runtime that suits both comes first and goes last; one package, proved on a fresh machine."""
    place = suite(
        shared, 'workspace = "../charts"\nafter = ["sounder"]', 'workspace = "../lantern"', 'workspace = "../sounder"'
    )
    found = parsed(yendo("suite", place, "--json"))
    assert [one["id"] for one in found["order"]] == ["sounder", "charts", "lantern"]
    assert found["shared"] == [{"package": "runtime", "version": ">=3.1,>=3", "brought": True}]
    package = Path(found["packages"][0])
    package = package if package.is_absolute() else shared / package
    proof = prove(package, SimulatedMachine())
    assert proof.passed, [
        (phase.title, phase.found, phase.details) for phase in proof.phases if phase.outcome == "failed"
    ]
    session = SimulatedSession(SimulatedMachine().surroundings())
    said = run(package, "install", session).lines
    assert (session.read(r"C:\Program Files\Yendo\installed\runtime.txt") or b"").startswith(b"3.2")
    assert sum("place extras/data.txt" in line for line in said) <= 4
    assert run(package, "uninstall", session).exit_code == 0
    assert session.read(r"C:\Marrowby\runtime\data.txt") is None
    assert not [
        one
        for one in parsed(yendo("check", place / "made", "--json", expect=None))["findings"]
        if one["severity"] == "error"
    ]


def test_one_each(shared: Path, yendo: Yendo) -> None:
    place = suite(shared, 'workspace = "../charts"\nafter = ["lantern"]', 'workspace = "../lantern"')
    yendo("suite", place, "--each")
    order = json.loads((place / "package" / "order.json").read_text("utf-8"))
    assert [one["package"] for one in order["order"]] == ["lantern-1.0-r1", "charts-1.0-r1"] and order["order"][1][
        "after"
    ] == ["lantern"]
    assert (place / "package" / "charts-1.0-r1" / "apply.cmd").is_file()


def test_languages_and_choice(tmp_path: Path, yendo: Yendo) -> None:
    product(tmp_path, "neutral")
    for language in ("en-GB", "de-DE"):
        product(tmp_path / language, "manual", language=language)
    product(tmp_path, "extra")
    place = suite(
        tmp_path,
        'workspace = "../neutral"',
        'workspace = "../en-GB/manual"',
        'workspace = "../de-DE/manual"',
        'workspace = "../extra"\nchoose = false',
        head='languages = ["de"]',
    )
    found = parsed(yendo("suite", place, "--json", "--dry-run"))
    assert [one["id"] for one in found["order"]] == ["neutral", "manual"] and found["packages"] == []
    assert [reason for _, reason in found["left_out"]] == ["its language en-GB is not among de", "not chosen"]
    assert not (place / "package").exists() and not (place / "made").exists()
    assert "in the suite twice" in yendo("suite", place, "--language", "de", "--language", "en", expect=3).stderr


def test_updates_only(tmp_path: Path, yendo: Yendo) -> None:
    """Where the product is there it goes; where it is not nothing is done; and a withdrawal takes no program away."""
    old, new = product(tmp_path / "old", "lantern", build=yendo), product(tmp_path, "lantern", version="2.0")
    (new / "extras" / "data.txt").write_text("data")
    place = suite(tmp_path, 'workspace = "../lantern"')
    package = tmp_path / parsed(yendo("suite", place, "--updates-only", "--json"))["packages"][0]
    session = SimulatedSession(SimulatedMachine().surroundings())
    assert run(package, "install", session).exit_code == form.NOT_APPLICABLE
    before = old / "package" / "lantern-1.0-r1"
    session.bring(before, r"C:\Hand over\old")
    assert carry.carry(form.read(before), before, session, "install", folder=r"C:\Hand over\old").exit_code == 0
    assert run(package, "install", session).exit_code == 0
    assert session.read(r"C:\Program Files\Yendo\installed\lantern.txt") == b"2.0"
    assert run(package, "uninstall", session).exit_code == 0 and session.read(r"C:\Marrowby\lantern\data.txt")


@pytest.mark.parametrize(
    ("more", "reason"),
    [
        (
            '[[need]]\npackage = "agreement"\nholds = [{ kind = "folder", path = \'C:\\x\' }]\nconsent = { en = "Do you agree?" }\n',
            "a person has to agree to agreement",
        ),
        ('[settings.key]\nmeaning = "the key"\nsecret = true\n', "the secret key cannot be handed on"),
        ('[settings.quay]\nmeaning = "the quay"\n', "quay: not given"),
        ('[[install]]\nkind = "restart"\nwhere = "always"\n', "it restarts the machine in its middle"),
        ("# DECIDE: which quay it is for\n", "something is still open in its plan: which quay"),
    ],
)
def test_what_needs_a_person_is_set_apart(tmp_path: Path, yendo: Yendo, more: str, reason: str) -> None:
    product(tmp_path, "charts")
    product(tmp_path, "plumb", more=more)
    place = suite(tmp_path, 'workspace = "../plumb"', 'workspace = "../charts"\nafter = ["plumb"]')
    done = yendo("suite", place, "--json", expect=1)
    found = parsed(done)
    assert [one["id"] for one in found["order"]] == ["charts"] and len(found["packages"]) == 1
    assert reason in found["by_hand"][0]["reason"] and found["by_hand"][0]["do"]
    assert "which a person sees to" in found["by_hand"][1]["reason"]
    assert "Not unattended, so not in it" in yendo("suite", place, expect=1).stdout


def test_values_are_handed_on(tmp_path: Path, yendo: Yendo) -> None:
    place = product(
        tmp_path, "charts", more='[settings.quay]\nmeaning = "the quay"\n\n[site.north]\nquay = "quay 1"\n\n'
    )
    path = place / "plan.toml"
    path.write_text(
        path.read_text("utf-8").replace(
            "[[install]]",
            '[[install]]\nkind = "registry"\nkey = \'HKLM\\Software\\Marrowby\'\nvalues = { Quay = "{setting.quay}" }\n\n[[install]]',
            1,
        ),
        "utf-8",
    )
    for given, wanted in (('site = "north"', "quay 1"), ('settings = { quay = "quay 9" }', "quay 9")):
        package = (
            tmp_path
            / parsed(yendo("suite", suite(tmp_path, 'workspace = "../charts"\n' + given), "--json"))["packages"][0]
        )
        session = SimulatedSession(SimulatedMachine().surroundings())
        assert run(package, "install", session).exit_code == 0
        assert session.get_value("HKLM", "64", r"Software\Marrowby", "Quay") == ("sz", wanted)


@pytest.mark.parametrize(
    ("products", "said"),
    [
        (
            ('workspace = "../a"\nafter = ["b"]', 'workspace = "../b"\nafter = ["a"]'),
            "goes round in a circle: a after b after a",
        ),
        (('workspace = "../a"\nafter = ["c"]',), "after names c, which is no product of the suite"),
        (('workspace = "../nowhere"',), "is no workspace"),
        (('workspace = "../a"\nafer = ["b"]',), "unknown key 'afer' in [product 1]; did you mean 'after'?"),
        (
            ('workspace = "../narrow"', 'workspace = "../wide"'),
            "no version of runtime suits all: narrow wants <2; wide wants >=3",
        ),
        (('workspace = "../narrow"', 'workspace = "../runtime"'), "runtime 3.0 is in the suite, and <2 is needed"),
    ],
)
def test_a_suite_that_cannot_be(tmp_path: Path, yendo: Yendo, products: tuple[str, ...], said: str) -> None:
    for name in ("a", "b"):
        product(tmp_path, name)
    product(tmp_path, "runtime", version="3.0")
    for name, wanted in (("narrow", "<2"), ("wide", ">=3")):
        product(
            tmp_path,
            name,
            more=need("runtime", wanted).replace(
                'from = "extras/runtime"', "holds = [{ kind = \"folder\", path = 'C:\\x' }]"
            ),
        )
    done = yendo("suite", suite(tmp_path, *products), expect=3)
    assert said in done.stderr and "suite.toml:" in done.stderr


@pytest.mark.thorough
@pytest.mark.wine
def test_by_its_own_runner(shared: Path, yendo: Yendo, shell_wine: Any) -> None:
    """The runner carries a suite out on the real machine: members, shared runtime, values in the right order, and away again."""
    place = suite(
        shared, 'workspace = "../charts"\nafter = ["sounder"]', 'workspace = "../lantern"', 'workspace = "../sounder"'
    )
    package = shared / parsed(yendo("suite", place, "--json"))["packages"][0]
    proof = prove(package, shell_wine)
    assert proof.passed, [
        (phase.title, phase.found, phase.details) for phase in proof.phases if phase.outcome == "failed"
    ]
