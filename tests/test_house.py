"""The house file: what an office says once, where it shows, and what is wrong with one."""

from __future__ import annotations

import json
import re
from pathlib import Path

import pytest
from conftest import Yendo, parsed, unix

from yendo.check import Workspace, check
from yendo.machines.simulated.machine import SimulatedMachine
from yendo.package import build
from yendo.package import manifest as form
from yendo.plan import read
from yendo.plan.house import HouseError
from yendo.prove.prove import prove

HOUSE = """
name = "Marrowby harbour survey office"
logo = "office.png"

[plan.package]
contact = "packages@marrowby.example"
publisher = "somebody else"
folder = "{id}_{version}_r{revision}"

[plan.when]
os = ">=10.0.19041"

[plan.log]
folder = '%ProgramData%\\Marrowby\\Logs'
state = '%ProgramData%\\Marrowby\\Packages'

[plan.in_the_way]
wait = "90 s"
postpone = 5

[plan.in_the_way.text]
en = "The survey office renews a program."
de = "Das Vermessungsbüro erneuert ein Programm."

[plan.proof]
machines = ["simulated"]
scenarios = ["system"]

[naming]
id = "marrowby-{name}"

[severity]
no-bounds = "note"
log-folder = "off"

[[rule]]
id = "limits"
severity = "error"
must = { of = "install.*.timeout", present = true, at_most = "20 min" }
message = "a step may take longer than the office waits"
do = "write timeout = \\"20 min\\" or less"

[[rule]]
id = "machine-wide"
must = { any = [{ of = "package.scope", one_of = ["machine"] }, { of = "package.notes", present = true, matches = ".*agreed.*" }] }
message = "it is for one user"
do = "ask the office"

[[before.install]]
kind = "registry"
key = 'HKLM\\Software\\Marrowby\\Packages'
values = { Last = "survey" }

[[after.install]]
kind = "delete"
path = '%PUBLIC%\\Desktop\\Lantern.lnk'

[templates]
plan = "plan.jinja"
notes = "notes.jinja"
handover = "handover.jinja"
"""
PNG = bytes.fromhex(
    "89504e470d0a1a0a0000000d49484452000000010000000108060000001f15c4890000000d49444154789c6360606060000000050001a5f645400000000049454e44ae426082"
)
LONGER = ("--although", "limits=the vendor needs so long")


@pytest.fixture
def office(tmp_path: Path, vendor: Path, yendo: Yendo) -> Path:
    """An office with a house file and a workspace drafted in it."""
    (tmp_path / "house.toml").write_text(HOUSE, "utf-8")
    (tmp_path / "office.png").write_bytes(PNG)
    (tmp_path / "plan.jinja").write_text("# {{ office }}: decided in the Monday meeting\n{{ plan }}", "utf-8")
    (tmp_path / "notes.jinja").write_text("# {{ identity.name }}, {{ decisions|length }} to decide\n", "utf-8")
    (tmp_path / "handover.jinja").write_text("{{ manifest.name }} from {{ office }}: {{ manifest.contact }}\n", "utf-8")
    yendo("draft", "lantern", vendor / "lantern-6.2.1.msi")
    return tmp_path / "lantern"


def test_what_the_house_says_is_not_said_again(office: Path) -> None:
    text = (office / "plan.toml").read_text("utf-8")
    assert text.startswith("# Marrowby harbour survey office: decided in the Monday meeting\n")
    assert 'id = "marrowby-lantern"' in text and "contact: from the house, house.toml" in text
    assert (office / "notes.md").read_text("utf-8").startswith("# Lantern, ")
    plan, lines = read(office / "plan.toml")
    assert (plan.package.contact, plan.package.publisher) == (
        "packages@marrowby.example",
        "Tidewell",
    )  # the plan's own word wins
    assert (
        plan.when.os == ">=10.0.19041"
        and plan.in_the_way.wait == "90 s"
        and plan.in_the_way.programs == ("lantern.exe",)
    )
    line = lines["package", "contact"]
    assert HOUSE.splitlines()[line - 1].startswith("contact =") and line.file == "house.toml"  # type: ignore[attr-defined]


def test_every_value_says_where_it_is_from(office: Path, yendo: Yendo) -> None:
    found = {
        row["place"]: row["from"] for row in parsed(yendo("check", office, "--why", "--json", expect=None))["values"]
    }
    assert found["package.contact"].startswith("house.toml:") and found["package.name"].startswith("plan.toml:")
    assert found["exclusive"] == "usual"
    assert HOUSE.splitlines()[int(found["before.install.1"].rpartition(":")[2]) - 1] == "[[before.install]]"
    yendo("build", office, *LONGER)
    manifest = json.loads(next((office / "package").glob("*/manifest.json")).read_text("utf-8"))
    assert (
        manifest["house"]["given"]["log.folder"]
        == HOUSE.splitlines().index("folder = '%ProgramData%\\Marrowby\\Logs'") + 1
    )
    assert manifest["house"]["name"] == "Marrowby harbour survey office" and str(office) not in json.dumps(manifest)


def test_the_package_is_the_offices(office: Path) -> None:
    """Folder name, standing steps, log and state folders, the text that is handed over; proved, and gone without a trace."""
    built = build.build(office, read(office / "plan.toml")[0])
    assert built.folder.name == "marrowby-lantern_6.2.1_r1"
    assert (built.folder / "handover.md").read_text(
        "utf-8"
    ) == "Lantern from Marrowby harbour survey office: packages@marrowby.example\n"
    manifest = form.read(built.folder)
    assert [action.kind for action in manifest.install] == ["registry", "msi", "delete"]
    assert (
        manifest.logs.startswith(r"%ProgramData%\Marrowby\Logs") and manifest.home == r"%ProgramData%\Marrowby\Packages"
    )
    proof = prove(built.folder, SimulatedMachine())
    assert proof.passed, [
        (phase.title, phase.found, phase.details) for phase in proof.phases if phase.outcome == "failed"
    ]


def test_the_offices_own_rules(office: Path, yendo: Yendo) -> None:
    found = check(Workspace(office))
    mine = [finding for finding in found if finding.rule == "limits"]
    assert (
        mine
        and mine[0].severity == "error"
        and (office / "plan.toml").read_text("utf-8").splitlines()[mine[0].line - 1].startswith("timeout")
    )
    assert not [finding for finding in found if finding.rule in ("log-folder", "machine-wide")]
    path = office / "plan.toml"
    path.write_text(
        path.read_text("utf-8")
        .replace('timeout = "30 min"', 'timeout = "20 min"')
        .replace('scope = "machine"', 'scope = "user"'),
        "utf-8",
    )
    assert {finding.rule for finding in check(Workspace(office))} >= {"machine-wide"}
    house = office.parent / "house.toml"
    house.write_text(house.read_text("utf-8").replace("no-bounds =", "no-bonds ="), "utf-8")
    said = yendo("check", office, expect=None).stdout
    assert "house.toml:" in said and "no rule is called no-bonds" in said


def test_proved_where_the_office_says(office: Path, yendo: Yendo) -> None:
    yendo("build", office, *LONGER)
    assert parsed(yendo("prove", office, "--json", expect=None))["scenario"] == "system"


@pytest.mark.parametrize(
    ("old", "new", "said"),
    [
        ('name = "Marrowby', 'nmae = "Marrowby', "2: unknown key 'nmae' in the plan; did you mean 'name'?"),
        ("wait = ", "wiat = ", "unknown key 'wiat' in [plan.in_the_way]; did you mean 'wait'?"),
        ('publisher = "somebody else"', 'version = "1"', "[plan.package]: version belongs to one program"),
        ("[plan.when]", "[plan.detect]", "a house says nothing about detect"),
        ('at_most = "20 min"', 'at_most = "20 min", matches = "("', "matches is no regular expression"),
        ('must = { of = "install.*.timeout", present', "must = { present", "of goes with"),
        ('kind = "delete"\npath = ', 'kind = "copy"\nfrom = "extras/x"\nto = ', "a standing step cannot bring files"),
        ('id = "marrowby-{name}"', 'id = "{office}"', "may hold {publisher}"),
        ("{id}_{version}_r{revision}", "{id}", "folder holds {id}, {version} and {revision}"),
        ("[severity]", "[severity", "not TOML"),
    ],
)
def test_a_house_file_with_a_mistake(office: Path, yendo: Yendo, old: str, new: str, said: str) -> None:
    """The file, the line and the nearest known word; nothing is built from a house that is not understood."""
    house = office.parent / "house.toml"
    assert old in HOUSE
    house.write_text(HOUSE.replace(old, new, 1), "utf-8")
    done = yendo("check", office, expect=None)
    told = " ".join((done.stdout + done.stderr).split())  # a long path folds the lines
    assert done.returncode in (2, 3) and said in told and re.search(r"(house|plan)\.toml:\d+", told)


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("one\n{{ manifest.nmae }}\n", "handover.jinja:2: "),
        ("one\n\n{% if %}\n", "handover.jinja:3: "),
        ("{{ manifest.__class__.__mro__[1].__subclasses__() }}", "handover.jinja:1: "),
        ("{% include '../secret.txt' %}", "handover.jinja:1: "),
        ("{{ 1 / 0 }}", "handover.jinja:1: "),
    ],
)
def test_a_template_with_an_error(office: Path, yendo: Yendo, text: str, said: str) -> None:
    (office.parent / "handover.jinja").write_text(text, "utf-8")
    (office.parent.parent / "secret.txt").write_text("not for templates")
    done = yendo("build", office, *LONGER, expect=3)
    assert said in done.stderr and not list((office / "package").glob("*_r1"))


def test_which_house(office: Path, yendo: Yendo, tmp_path: Path) -> None:
    """The nearest above, the one that the plan names, or none."""
    path = office / "plan.toml"
    (office / "house.toml").write_text('name = "the nearer one"\n', "utf-8")
    assert read(path)[0].furnished.house.name == "the nearer one"
    path.write_text('house = "../house.toml"\n' + path.read_text("utf-8"), "utf-8")
    assert read(path)[0].furnished.house.name == "Marrowby harbour survey office"
    path.write_text(path.read_text("utf-8").replace('house = "../house.toml"', 'house = ""'), "utf-8")
    assert read(path)[0].furnished is None
    path.write_text(path.read_text("utf-8").replace('house = ""', 'house = "nowhere.toml"'), "utf-8")
    assert "the house file nowhere.toml is not there" in yendo("check", office, expect=3).stdout
    yendo("draft", "other", tmp_path / "lantern" / "media" / "lantern-6.2.1.msi", "--house", tmp_path / "house.toml")
    (tmp_path / "other" / "house.toml").write_text('name = "the nearer one"\n', "utf-8")
    assert read(tmp_path / "other" / "plan.toml")[0].furnished.house.name == "Marrowby harbour survey office"


@unix
def test_a_house_that_somebody_else_has_put_there(office: Path) -> None:
    import os

    if os.geteuid() != 0:
        pytest.skip("only root can give a file away")
    os.chown(office.parent / "house.toml", 12345, 12345)
    with pytest.raises(HouseError, match="belongs to somebody else"):
        read(office / "plan.toml")
