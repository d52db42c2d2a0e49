"""Putting things into a plan from the command line, and drafts from what is no installer."""

from __future__ import annotations

import argparse
import os
from pathlib import Path
from typing import Any, get_args

import msgspec
import pytest
from conftest import Yendo, parsed

from yendo.cli import add_command, main
from yendo.demo import drivers, sounder
from yendo.machines.simulated.machine import SimulatedMachine
from yendo.plan import read
from yendo.prove.prove import prove
from yendo.steps import KINDS
from yendo.steps.captured import Otherwise
from yendo.terms.changes import PlannedChange
from yendo.terms.rules import KINDS as RULES

TIDY = r"""[void][IO.Directory]::CreateDirectory('C:\ProgramData\Marrowby')
[IO.File]::WriteAllText('C:\ProgramData\Marrowby\tidy.txt', 'tidied')
exit 0
"""
QUAYS = """Windows Registry Editor Version 5.00

[HKEY_LOCAL_MACHINE\\SOFTWARE\\Marrowby\\Quays]
"Count"=dword:00000007
"Main"="quay 3"

[HKEY_CURRENT_USER\\Software\\Marrowby]
"Seen"="yes"
"""


@pytest.fixture
def drafted(yendo: Yendo, vendor: Path, tmp_path: Path) -> Path:
    yendo("draft", "w", vendor / "lantern-6.2.1.msi")
    return tmp_path / "w"


def test_a_step_stands_where_it_was_put(yendo: Yendo, drafted: Path, tmp_path: Path) -> None:
    (tmp_path / "charts").mkdir()
    (tmp_path / "charts" / "outer.chart").write_text("depths")
    before = (drafted / "plan.toml").read_text("utf-8")
    said = parsed(
        yendo("add", "step", "copy", "--into", "w", "--from", tmp_path / "charts", "--to", r"%ProgramData%\C", "--json")
    )
    more = ["--at", "1", "--key", r"HKLM\Software\M", "--values", "Quay=3", "-q"]
    assert yendo("add", "step", "registry", "--into", "w", *more).stdout == ""
    yendo("add", "step", "delete", "--into", "w", "--for", "uninstall", "--path", r"C:\Old\a", "--empty-parents")
    text = (drafted / "plan.toml").read_text("utf-8")
    plan, lines = read(drafted / "plan.toml")
    assert [str(step.__struct_config__.tag) for step in plan.install] == ["registry", "msi", "copy"]
    assert plan.install[0].values == {"Quay": 3} and plan.uninstall[-1].empty_parents
    assert said["brought"] == ["extras/charts"] and (drafted / "extras" / "charts" / "outer.chart").is_file()
    assert said["text"].startswith('[[install]]\nkind = "copy"') and said["line"] < lines["install", 2]
    for comment in (line for line in before.splitlines() if "#" in line):
        assert comment in text


def test_what_the_database_should_do_otherwise(yendo: Yendo, drafted: Path) -> None:
    yendo("add", "change", "drop", "--into", "w", "--what", "shortcut", "--name", "DesktopLantern")
    yendo("add", "change", "feature", "--into", "w", "--name", "Documentation", "--no-install")
    yendo("add", "change", "property", "--into", "w", "--name", "SITE", "--value", "Marrowby", "--step", "1")
    plan, _ = read(drafted / "plan.toml")
    assert [str(one.__struct_config__.tag) for one in plan.install[0].change] == ["drop", "feature", "property"]
    assert plan.install[0].change[1].install is False and plan.install[0].change[2].value == "Marrowby"
    yendo("build", "w")
    proof = proved(drafted, SimulatedMachine())
    assert proof.passed, [(phase.title, phase.details) for phase in proof.phases if phase.outcome == "failed"]
    assert (
        "runs no database"
        in yendo(
            "add", "change", "drop", "--into", "w", "--what", "file", "--name", "a", "--step", "2", expect=2
        ).stderr
    )


def test_the_other_things(yendo: Yendo, drafted: Path, vendor: Path) -> None:
    yendo("add", "rule", "service", "--into", "w", "--name", "LanternTide")
    yendo("add", "need", "--into", "w", "--holds", r"HKLM\Software\Tidewell\Base\Version", "--note", "the base")
    yendo(
        "add",
        "setting",
        "office",
        "--into",
        "w",
        "--meaning",
        "whose",
        "--type",
        "choice",
        "--allowed",
        "A",
        "--allowed",
        "B",
    )
    yendo("add", "media", vendor / "lantern-6.2.3.msp", "--into", "w")
    yendo(
        "add",
        "step",
        "msi",
        "--into",
        "w",
        "--patch",
        "lantern-6.2.3.msp",
        "--probe",
        '{ kind = "folder", path = "C:/x" }',
    )
    plan, _ = read(drafted / "plan.toml")
    assert plan.detect[-1].name == "LanternTide" and plan.need[0].holds[0].name == "Version"
    assert plan.settings["office"].allowed == ("A", "B") and plan.install[-1].probe[0].path == "C:/x"
    assert {medium.file for medium in plan.media} == {"lantern-6.2.1.msi", "lantern-6.2.3.msp"}
    assert "media.2.origin" in yendo("decide", "w", "--list", expect=1).stdout


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (["step", "copy", "--from", "nowhere", "--to", "C:\\x", "--at", "9"], "from 1 to 2"),
        (["step", "registry", "--key", "HKXX\\a", "--values", "a=1"], "HKLM"),
        (["step", "service", "--name", "a", "--change", "paint"], "invalid choice"),
        (["rule", "file", "--path", "C:\\x", "--version", "~6"], "version"),
        (["need"], "a need names a package"),
        (["setting", "a b", "--meaning", "x"], "small letters"),
        (["media", "nowhere.cab"], "no file"),
        (["step", "exe", "--media", "x.exe", "--probe", "tide gauge!"], "no path"),
        (["step", "exe", "--media", "x.exe", "--when", "{ people"], "no value as a plan has it"),
    ],
)  # fmt: skip
def test_what_cannot_stand_there_is_not_written(yendo: Yendo, drafted: Path, words: list[str], said: str) -> None:
    before = (drafted / "plan.toml").read_bytes()
    done = yendo("add", *words, "--into", "w", expect=2)
    assert said in done.stderr and "Traceback" not in done.stderr
    assert (drafted / "plan.toml").read_bytes() == before


def test_another_file_of_the_same_name_is_refused(yendo: Yendo, drafted: Path, tmp_path: Path) -> None:
    other = tmp_path / "other" / "lantern-6.2.1.msi"
    other.parent.mkdir()
    other.write_bytes(b"another")
    assert "yendo renew" in yendo("add", "media", other, "--into", "w", expect=2).stderr
    if os.name == "nt":
        return  # the API layer makes no links
    (tmp_path / "link.ini").symlink_to(other)
    done = yendo("add", "step", "copy", "--into", "w", "--from", tmp_path / "link.ini", "--to", "C:\\x", expect=2)
    assert "is a link" in done.stderr


def test_every_key_of_every_kind_is_an_option() -> None:
    """The options come from the models, so none is missing, and none is in the way of another."""
    changes = {str(one.__struct_config__.tag): one for one in get_args(PlannedChange)}
    changes[add_command.CAPTURED] = Otherwise
    steps = {name: kind.step for name, kind in KINDS.items()}
    top = main.parser("add")
    for what, models in (("step", steps), ("rule", RULES), ("change", changes)):
        kinds = _below(_below(_below(top)["add"])[what])
        assert set(kinds) == set(models)
        for name, model in models.items():
            known = {option for action in kinds[name]._actions for option in action.option_strings}
            keys = {f"--{field.encode_name.replace('_', '-')}" for field in msgspec.structs.fields(model)}
            assert keys <= known, (name, keys - known)


def _below(parser: argparse.ArgumentParser) -> dict[str, argparse.ArgumentParser]:
    return next(action.choices for action in parser._actions if isinstance(action, argparse._SubParsersAction))


# --- drafts from what is no installer ------------------------------------------------------------------


@pytest.fixture
def share(tmp_path: Path) -> Path:
    folder = tmp_path / "share"
    for name, text in (
        ("quays.reg", QUAYS), ("tidy.ps1", TIDY), ("charts/a.chart", "depths"), 
    ):  # fmt: skip
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / name).write_text(text)
    drivers.put(drivers.CURRENT, folder / "gauge")
    return folder


def proved(workspace: Path, machine: Any) -> Any:
    return prove(next((workspace / "package").glob("*-r1")), machine)


def test_a_driver_folder_is_proved_without_an_editor(yendo: Yendo, share: Path, tmp_path: Path) -> None:
    yendo("draft", "w", share / "gauge")
    listed = yendo("decide", "w", "--list", expect=1).stdout
    assert "Tidewell signed the driver, not Microsoft" in " ".join(listed.split())
    yendo("decide", "w", "--answer", "package.contact=us", expect=1)  # one is open still
    assert "nobody has said yet" in yendo("build", "w", expect=1).stdout
    yendo("decide", "w", "--answer", "install.1.store=TrustedPublisher")
    yendo("build", "w")
    proof = proved(tmp_path / "w", SimulatedMachine())
    assert proof.passed, proof.phases
    plan, _ = read(tmp_path / "w" / "plan.toml")
    assert [(rule.__struct_config__.tag, rule.version) for rule in plan.detect] == [("driver", ">=2.1.0.0")]
    assert (plan.package.version, plan.package.publisher, plan.package.architecture) == ("2.1.0.0", "Tidewell", "x64")
    assert (tmp_path / "w" / "extras" / "tidewell.cer").read_bytes() == drivers.publisher()


def test_registry_files_and_folders_in_their_order(yendo: Yendo, share: Path, vendor: Path, tmp_path: Path) -> None:
    """Several sources: what they are is done in order and taken back in reverse; detection asks for all of them."""
    yendo(
        "draft",
        "w",
        share / "quays.reg",
        vendor / "lantern-6.2.1.msi",
        "--files",
        share / "charts",
        "--to",
        r"C:\Charts",
    )
    plan, _ = read(tmp_path / "w" / "plan.toml")
    assert [str(step.__struct_config__.tag) for step in plan.install] == ["registry", "msi", "copy"]
    assert plan.install[0].each_user and plan.package.name == "Lantern"
    titles = " ".join(rule.title for rule in plan.detect)
    assert "Quays" in titles and "product {" in titles and r"C:\Charts\a.chart" in titles
    yendo("build", "w")
    assert proved(tmp_path / "w", SimulatedMachine()).passed


def test_where_files_go_is_followed_by_detection(yendo: Yendo, share: Path, tmp_path: Path) -> None:
    yendo("draft", "w", "--files", share / "charts")
    yendo("decide", "w", "--accept-defaults", "--answer", "package.contact=us", "--answer", r"install.1.to=D:\Charts")
    assert read(tmp_path / "w" / "plan.toml")[0].detect[0].path == r"D:\Charts\a.chart"


def script(yendo: Yendo, share: Path, tmp_path: Path) -> Path:
    yendo("draft", "w", share / "tidy.ps1")
    assert "install.1.probe" in yendo("decide", "w", "--list", expect=1).stdout
    wrong = yendo("decide", "w", "--answer", "install.1.probe=a quay!", expect=2)
    assert "is no path" in wrong.stderr
    answer = r"install.1.probe=C:\ProgramData\Marrowby\tidy.txt"
    yendo("decide", "w", "--accept-defaults", "--answer", "package.contact=us", "--answer", answer)
    yendo("build", "w")
    return tmp_path / "w"


def test_a_script_is_not_proved_where_it_ran_nowhere(yendo: Yendo, share: Path, tmp_path: Path) -> None:
    workspace = script(yendo, share, tmp_path)
    proof = proved(workspace, SimulatedMachine())
    assert proof.outcome == "open" and "ran nowhere" in proof.unanswered
    assert read(workspace / "plan.toml")[0].uninstall[-1].path == r"C:\ProgramData\Marrowby\tidy.txt"


@pytest.mark.thorough
@pytest.mark.wine
def test_a_script_is_proved_where_it_runs(yendo: Yendo, share: Path, tmp_path: Path, shell_wine: Any) -> None:
    """Carried out by the real shell; what it made is gone after the removal, folder and all."""
    proof = proved(script(yendo, share, tmp_path), shell_wine)
    assert proof.passed, [(phase.title, phase.details) for phase in proof.phases if phase.outcome == "failed"]


def test_known_switches(yendo: Yendo, tmp_path: Path, vendor: Path) -> None:
    setup = Path(sounder.__file__).with_name("sounder-setup.exe")
    line = '"C:\\Program Files\\Tidewell\\Sounder\\remove.exe" /quiet'
    yendo("draft", "w", setup, "--silent", "/silent /dir=C:\\S", "--uninstall", line)
    plan, _ = read(tmp_path / "w" / "plan.toml")
    assert plan.install[0].arguments == "/silent /dir=C:\\S"
    assert (plan.uninstall[0].program, plan.uninstall[0].arguments) == (line.split('"')[1], "/quiet")
    assert "in double quotes" in yendo("draft", "v", setup, "--uninstall", "remove.exe", expect=2).stderr
    done = yendo("draft", "u", vendor / "lantern-6.2.1.msi", "--silent", "/qn", expect=2)
    assert "needs no telling" in done.stderr


def test_what_is_no_source(yendo: Yendo, share: Path) -> None:
    (share / "bad.reg").write_text("not a registry file")
    assert "does not begin" in yendo("draft", "w", share / "bad.reg", expect=2).stderr
    assert "not there" in yendo("draft", "w", share / "nothing.ps1", expect=2).stderr
    with (share / "large.reg").open("wb") as file:
        file.truncate(17 << 20)
    assert "larger than 16 MB" in yendo("draft", "w", share / "large.reg", expect=2).stderr
    if os.name != "nt":  # the API layer makes no links
        (share / "link.ps1").symlink_to(share / "tidy.ps1")
        assert "is a link" in yendo("draft", "w", share / "link.ps1", expect=2).stderr
    assert "name what the package is made of" in yendo("draft", "w", expect=2).stderr
    (share / "again").mkdir()
    (share / "again" / "quays.reg").write_text(QUAYS)
    done = yendo("draft", "w", share / "quays.reg", share / "again" / "quays.reg", expect=2)
    assert "have one name" in done.stderr
