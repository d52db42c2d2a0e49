"""Settings: values chosen when a package is delivered, through the plan, the built package, both machines and the proof."""

from __future__ import annotations

import re
import shutil
from pathlib import Path
from typing import Any

import pytest
from conftest import OWN, Yendo, numeric, parsed
from hypothesis import given
from hypothesis import strategies as st

from yendo.effects import difference
from yendo.machines.simulated.machine import SimulatedMachine, SimulatedSession
from yendo.package import build, carry, scripts
from yendo.package import manifest as form
from yendo.plan import PlanError, read, read_text
from yendo.prove.prove import prove
from yendo.terms import settings
from yendo.terms.settings import Setting, SettingError

FOLDER = r"C:\Hand over\tidewell-lantern"
DECLARED = """
[settings.licence_server]
meaning = "where the licences are"
default = "licences.marrowby.example"

[settings.port]
meaning = "its port"
type = "number"
default = 27000
least = 1024
most = 65535

[settings.office]
meaning = "the office that the machine belongs to"
type = "choice"
allowed = ["Marrowby", "Kettle"]
default = "Marrowby"

[settings.updates]
meaning = "whether it looks for updates"
type = "yes-no"
default = false
words = ["1", "0"]

[settings.charts]
meaning = "where the charts are kept"
type = "folder"
default = '%ProgramData%\\Tidewell\\charts'

[settings.key]
meaning = "the licence key"
secret = true

[site.marrowby]
port = 27001

[site.kettle]
office = "Kettle"
licence_server = "licences.kettle.example"
updates = true
"""
RULES_HERE = ("secret-once", "secret-exposed", "secret-at-rest", "secret-in-detection", "unused-setting", "no-site")
STEPS = r"""
[[install]]
kind = "registry"
key = 'HKLM\Software\Tidewell\Office'
values = { Server = "{setting.licence_server}", Port = "{setting.port}", Note = "{setting.office}, port {setting.port}" }
types = { Port = "dword" }

[[install]]
kind = "copy"
from = "extras/office.ini"
to = '%ProgramData%\Tidewell\Lantern\office.ini'
fill = true

[[install]]
kind = "copy"
from = "extras/read-me.txt"
to = '{setting.charts}\read-me.txt'

[[install]]
kind = "copy"
from = "extras/kettle.txt"
to = '%ProgramData%\Tidewell\Lantern\kettle.txt'
when = { setting = { office = "Kettle" } }

[[detect]]
kind = "registry"
key = 'HKLM\Software\Tidewell\Office'
name = "Server"
equals = "{setting.licence_server}"
"""


@pytest.fixture
def office(workspace: Path) -> Path:
    """The demo's workspace with settings in every place where one can stand."""
    path = workspace / "plan.toml"
    text = path.read_text("utf-8")
    head, mark, rest = text.partition("[[install]]")
    first, step, after = rest.partition("[[uninstall]]")
    first = first.replace('SITE = "Marrowby"', 'SITE = "{setting.office}"\nLICENCEKEY = "{setting.key}"').replace(
        'AUTOUPDATE = "0"', 'AUTOUPDATE = "{setting.updates}"'
    )
    assert "{setting.office}" in first and "{setting.updates}" in first
    install, detect = STEPS.split("\n[[detect]]")
    path.write_text(
        head + DECLARED + "\n" + mark + first + install + "\n\n" + step + after + "\n[[detect]]" + detect, "utf-8"
    )
    (workspace / "extras" / "office.ini").write_bytes(
        "\ufeff[office]\r\nname={setting.office}\r\nserver={setting.licence_server}\r\n".encode("utf-16-le")
    )
    (workspace / "extras" / "read-me.txt").write_text("charts")
    (workspace / "extras" / "kettle.txt").write_text("Kettle bank")
    return workspace


def built(workspace: Path) -> Path:
    return build.build(workspace, read(workspace / "plan.toml")[0]).folder


SERVER = "HKLM", "64", r"Software\Tidewell\Office"


@pytest.mark.parametrize("where", ["simulated", pytest.param("wine", marks=[pytest.mark.wine, pytest.mark.thorough])])
def test_every_site_is_proved(office: Path, where: str, request: pytest.FixtureRequest) -> None:
    """Each site's values reach registry, files, properties and conditions; the secret reaches neither log nor process list."""
    from yendo.prove import scenarios

    machine: Any = SimulatedMachine() if where == "simulated" else request.getfixturevalue("shell_wine")
    package = built(office)
    for scenario in scenarios.at_sites([scenarios.SCENARIOS["desk"]], form.sites_of(form.read(package))):
        proof = prove(package, machine, scenario=scenario)
        failed = [
            (phase.title, phase.expected, phase.found, phase.details)
            for phase in proof.phases
            if phase.outcome == "failed"
        ]
        assert not failed, (failed, proof.log[-20:])
        assert any(phase.id == "secrets" and phase.outcome == "passed" for phase in proof.phases)
        assert not any("secret-" in line for line in proof.log)


def carried(package: Path, verb: str = "install", session: Any = None, **given: Any) -> tuple[int, SimulatedSession]:
    session = session or SimulatedSession(SimulatedMachine().surroundings())
    session.bring(package, FOLDER)
    manifest = form.with_values(form.read(package), session.surroundings.environment, given, verb=verb)
    return carry.carry(manifest, package, session, verb, folder=FOLDER, sleep=lambda _: None).exit_code, session


def test_values_land_where_they_stand(office: Path) -> None:
    code, session = carried(built(office), office="Kettle", port=4711, charts=r"D:\Charts", key="k-1", updates=True)
    assert code == 0
    assert session.get_value(*SERVER, "Port") == ("dword", 4711)
    assert session.get_value(*SERVER, "Note") == ("sz", "Kettle, port 4711")
    assert session.get_value("HKLM", "64", r"Software\Tidewell\Lantern", "Site") == ("sz", "Kettle")
    assert session.read(r"C:\ProgramData\Tidewell\Lantern\office.ini") == (
        "\ufeff[office]\r\nname=Kettle\r\nserver=licences.marrowby.example\r\n".encode("utf-16-le")
    )
    assert session.read(r"D:\Charts\read-me.txt") and session.read(r"C:\ProgramData\Tidewell\Lantern\kettle.txt")
    kept = session.read(r"C:\Program Files\Yendo\state\tidewell-lantern\settings.txt") or b""
    assert b"office=Kettle" in kept and b"key" not in kept and b"k-1" not in kept


def test_parts_folder_and_words_of_an_installer(office: Path) -> None:
    """Optional parts, the folder, and a program's arguments are chosen at delivery too; nothing chosen leaves no comma behind."""
    path = office / "plan.toml"
    text = path.read_text("utf-8")
    more = '[settings.parts]\nmeaning = "optional parts"\ntype = "choices"\nallowed = ["Documentation", "SurveyExport"]\ndefault = ""\n\n[settings.port]'
    text = text.replace("[settings.port]", more, 1).replace(
        'timeout = "30 min"', 'timeout = "30 min"\nfeatures = ["Main", "{setting.parts}"]', 1
    )
    text = text.replace('SITE = "{setting.office}"', 'SITE = "{setting.office}"\nINSTALLDIR = "{setting.charts}"', 1)
    change = '[[install.change]]\nkind = "registry"\nkey = \'HKLM\\Software\\Tidewell\\Lantern\'\nname = "Port"\nvalue = "{setting.port}"\ntype = "dword"\n\n'
    text = text.replace("%ProgramFiles%\\Tidewell'", "{setting.charts}'", 1).replace('"Lantern\\\\', '"')
    at = text.index("[[install]]", text.index("[[install]]") + 3)
    path.write_text(text[:at] + change + text[at:], "utf-8")
    package = built(office)
    manual, plugin = r"D:\Lantern\documents\manual.txt", r"D:\Lantern\survey export.txt"
    for parts, there in (
        ("", (False, False)),
        ("Documentation", (True, False)),
        ("surveyexport, documentation", (True, True)),
    ):
        code, session = carried(package, parts=parts, charts=r"D:\Lantern", port=4711, key="k-1")
        assert code == 0
        assert (session.read(manual) is not None, session.read(plugin) is not None) == there
        assert session.get_value("HKLM", "64", r"Software\Tidewell\Lantern", "Port") == ("dword", 4711)
    line = form.read(package).install[0].command
    assert 'ADDLOCAL="Main,{setting.parts}"' in line and 'INSTALLDIR="{setting.charts}"' in line


SITE = "HKLM", "64", r"Software\Tidewell\Lantern", "Site"


@pytest.fixture
def patched(whole: Path) -> Path:
    """The demo's package, whose transform sets the office that is chosen at delivery, with its patch behind it and a repair."""
    path = whole / "plan.toml"
    text = path.read_text("utf-8").replace('value = "Marrowby"', 'value = "{setting.office}"')
    path.write_text(text + '\n[settings.office]\nmeaning = "the office"\ndefault = "Marrowby"\n', "utf-8")
    return built(whole)


def test_a_patch_and_a_repair_keep_what_was_chosen(patched: Path) -> None:
    """What stood on the command line is not on record with the installer, so those who install again are told again."""
    code, session = carried(patched, office="Kettle")
    assert code == 0 and session.get_value(*SITE) == ("sz", "Kettle")
    code, session = carried(patched, "repair", session, office="Kettle")
    assert code == 0 and session.get_value(*SITE) == ("sz", "Kettle")


@pytest.mark.wine
def test_the_runner_keeps_what_was_chosen(patched: Path, shell_wine: Any) -> None:
    with shell_wine.fresh() as session:
        session.bring(patched, FOLDER)
        assert told(session, FOLDER, 'install -Set "office=Kettle"')[0] == 0
        for _ in range(2):
            assert "Kettle" in {thing.data for thing in session.state().of("registry") if thing.name == "Site"}
            assert told(session, FOLDER, "repair")[0] == 0


@pytest.mark.parametrize(
    ("old", "new", "said"),
    [
        ('office = "Kettle"\nlicence', 'offise = "Kettle"\nlicence', "did you mean 'office'"),
        ('office = "Kettle"\nlicence', 'office = "Hull"\nlicence', "'Hull' is not one of Marrowby, Kettle"),
        ("port = 27001", "port = 80", "'80' is not a whole number from 1024 up to 65535"),
        ("port = 27001", 'key = "k-1"', "it is secret"),
        ("secret = true", 'secret = true\ndefault = "k-1"', "a secret is a text without a default"),
        ('Server = "{setting.licence_server}"', 'Server = "{setting.licence_sever}"', "did you mean 'licence_server'"),
        ('office = "Kettle" } }', 'office = "Hull" } }', "office can never be so"),
    ],
)
def test_a_plan_with_a_wrong_setting(office: Path, old: str, new: str, said: str) -> None:
    text = (office / "plan.toml").read_text("utf-8")
    assert old in text
    with pytest.raises(PlanError) as error:
        read_text(text.replace(old, new))
    assert said in str(error.value) and error.value.problems[0].line > 1


@pytest.mark.parametrize(
    ("old", "new", "rule"),
    [
        ("", "", ""),
        ("{setting.office}, port {setting.port}", "{setting.key}", "secret-at-rest"),
        ('equals = "{setting.licence_server}"', 'equals = "{setting.key}"', "secret-in-detection"),
        ('kind = "msi"\nproduct', 'kind = "msi"\nproperties = { KEY = "{setting.key}" }\nproduct', "secret-exposed"),
        ('LICENCEKEY = "{setting.key}"', "", "unused-setting"),
        ('default = "licences.marrowby.example"', "", "no-site"),
    ],
)
def test_checks_tell_where_a_secret_gets_out(office: Path, yendo: Yendo, old: str, new: str, rule: str) -> None:
    """In a property of the install step there is a way round the command line; elsewhere there is none, and check says so."""
    path = office / "plan.toml"
    text = path.read_text("utf-8")
    assert old in text
    path.write_text(text.replace(old, new, 1), "utf-8")
    found = parsed(yendo("check", office, "--json", expect=None))["findings"]
    again = [one for one in found if one["rule"] == "secret-once"]
    assert bool(again) == ("LICENCEKEY" in text.replace(old, new, 1)), found  # the plan has a repair
    ours = [one for one in found if one["rule"] in RULES_HERE and one["rule"] != "secret-once"]
    assert "clear-secret" not in [one["rule"] for one in found]
    assert [one["rule"] for one in ours] == ([rule] if rule else []), found
    assert all("key" in one["message"] or "licence_server" in one["message"] for one in ours) and all(
        one["line"] > 20 for one in ours
    )


def told(session: Any, folder: str, words: str) -> tuple[int, str]:
    ran = session.run(f'cmd /s /c ""{folder}\\apply.cmd" {words}"', timeout=300)
    return ran.exit_code, ran.output


@pytest.mark.wine
def test_what_the_runner_refuses(office: Path, shell_wine: Any) -> None:
    """Everything wrong is said before anything starts; a secret on a command line, and a file that others read, are refused."""
    package = built(office)
    with shell_wine.fresh() as session:
        session.bring(package, FOLDER)
        before = session.state()
        for words, code, said in (
            ('install -Set "offise=Kettle"', form.UNSETTLED, "no setting is called 'offise'"),
            ('install -Set "port=80"', form.UNSETTLED, "'80' is not a whole number from 1024 up to 65535"),
            ("install -Site hull", form.UNSETTLED, "there is no site hull"),
            ("install", form.UNSETTLED, "key: not given"),
            ('install -Set "key=k-1"', form.EXPOSED, "everybody sees a command line"),
            (r"install -Values C:\nowhere.txt", form.UNSETTLED, "is not there"),
        ):
            found, output = told(session, FOLDER, words)
            assert found == code and said in output, (words, found, output)
            assert "k-1" not in output.replace(words, "")
        assert [
            str(effect) for effect in difference(before, session.state()) if not effect.thing.identity.startswith(OWN)
        ] == []
        session.write(r"C:\Hand over\open.txt", b"key = k-1\r\n")
        session.host(r"C:\Hand over\open.txt").chmod(0o666)
        found, output = told(session, FOLDER, r'install -Values "C:\Hand over\open.txt"')
        assert found == form.EXPOSED and "can be read or changed by others" in output and "icacls" in output
        session.write(
            FOLDER + r"\values.txt", b"# from the licence desk\r\nkey = k-1\r\noffice = kettle\r\n", private=True
        )
        found, output = told(session, FOLDER, 'install -Set "port=4711"')
        assert found == 0, output
        assert "Kettle, port 4711" in {thing.data for thing in session.state().of("registry") if thing.name == "Note"}
        for name in ("apply.ps1", "detect.ps1"):
            ran = session.run(f'powershell -Check51 -File "{FOLDER}\\{name}"', timeout=120)
            own = set(re.findall(r"^function ([\w-]+)", (package / name).read_text("utf-8-sig"), re.M)) | {
                "ForEach-Object",
                "Where-Object",
            }
            called = {line.split()[1] for line in ran.output.splitlines() if line.startswith("calls ")}
            assert ran.exit_code == 0 and called <= own, ran.output
        # neither detection nor repair nor removal is told the values again
        assert told(session, FOLDER, "detect")[0] == 0
        ran = session.run(f'powershell -NoProfile -ExecutionPolicy Bypass -File "{FOLDER}\\detect.ps1"', timeout=120)
        assert ran.exit_code == 0, ran.output
        assert told(session, FOLDER, "uninstall")[0] == 0


@pytest.mark.wine
def test_the_script_reads_values_as_the_plan_does(shell_wine: Any, tmp_path: Path) -> None:
    """A table of values of every type, judged by the runner's own code and by ours."""
    known = {
        "text": Setting(meaning="m"),
        "number": Setting(meaning="m", type="number", least=-3, most=10),
        "yes": Setting(meaning="m", type="yes-no", words=("on", "off")),
        "one": Setting(meaning="m", type="choice", allowed=("Deep", "shallow")),
        "some": Setting(meaning="m", type="choices", allowed=("a", "B", "c")),
    }
    tried = {
        "text": ["plain", " spaced ", "a=b", "100 %", "%TEMP%", 'quo"te', "Üml", "50% of 20%"],
        "number": ["7", "-3", "-4", "11", "007", "1.5", "", "x"],
        "yes": ["yes", "NO", "true", "False", "1", ""],
        "one": ["deep", "DEEP", "shallow", "both", ""],
        "some": ["", "a", "b,a", "a, a ,B", "d", "c;a"],
    }
    rows = [(name, value) for name, values in tried.items() for value in values]

    def ours(name: str, value: str) -> str:
        try:
            return "ok " + known[name].text_of(value)
        except ValueError as error:
            return f"no {error}"

    plan = {
        name: {
            "type": one.type,
            "allowed": list(one.allowed),
            "least": one.least,
            "most": one.most,
            "words": list(one.words),
        }
        for name, one in known.items()
    }
    text = (
        "$ErrorActionPreference = 'Stop'\n[Console]::OutputEncoding = [Text.UTF8Encoding]::new($false)\n"
        + scripts._part("settings")
    )
    text += f"$known = {scripts.literal(plan)}\nforeach ($row in {scripts.literal([list(row) for row in rows])}) {{\n"
    text += "    try { [string]$found = 'ok ' + (ConvertTo-Setting $known[$row[0]] $row[1]) } catch { [string]$found = 'no ' + $_.Exception.GetBaseException().Message }\n    [Console]::WriteLine($found)\n}\n"
    with shell_wine.fresh() as session:
        session.write(r"C:\windows\temp\values.ps1", scripts.script(text))
        ran = session.run(
            r'powershell -NoProfile -ExecutionPolicy Bypass -File "C:\windows\temp\values.ps1"', timeout=120
        )
    assert ran.exit_code == 0, ran.output
    assert ran.output.splitlines()[-len(rows) :] == [ours(name, value) for name, value in rows]


@given(
    st.dictionaries(st.sampled_from(["text", "more"]), st.text(alphabet="ab{}.-\\é \t", max_size=12)),
    st.text(alphabet="x{}setingmor.-\\", max_size=40),
)
def test_places_are_filled_once(values: dict[str, str], around: str) -> None:
    """What is filled in is not filled again, and a text without places stays as it is."""
    known = {"text": Setting(meaning="m", default=""), "more": Setting(meaning="m", default="")}
    try:
        settled = settings.settle(known, values)
    except SettingError:
        return
    assert settings.fill_text("{setting.text}|{setting.more}", known, settled) == f"{settled['text']}|{settled['more']}"
    if not settings.names_in(around):
        assert settings.fill_text(around, known, settled) == around


def test_a_setting_that_is_lost_on_the_way(office: Path) -> None:
    """What a later step puts back is told: every proof of it would be green."""
    from yendo.prove import ground

    path = office / "plan.toml"
    text = path.read_text("utf-8")
    back = '[[install]]\nkind = "registry"\nkey = \'HKLM\\Software\\Tidewell\\Lantern\'\nvalues = { Site = "Unassigned" }\n\n[[uninstall]]'
    text = (
        text.replace('Note = "{setting.office}, port {setting.port}"', 'Note = "x"')
        .replace("name={setting.office}", "name=x")
        .replace("[[uninstall]]", back, 1)
    )
    text = text.replace('when = { setting = { office = "Kettle" } }\n', "")
    path.write_text(text, "utf-8")
    (office / "extras" / "office.ini").write_text("server={setting.licence_server}")
    package = built(office)
    assert ground.idle_settings(ground.make(package), package) == ["office"]


def test_a_value_that_nobody_gives(office: Path, yendo: Yendo) -> None:
    path = office / "plan.toml"
    path.write_text(path.read_text("utf-8").replace('default = "licences.marrowby.example"\n', ""), "utf-8")
    yendo("build", office)
    assert "give a default or a value in a [site.NAME]" in yendo("prove", office, "--site", "marrowby", expect=2).stderr


def test_a_package_without_settings_stays_as_it_was(drafted: Path, tmp_path: Path) -> None:
    """Who declares none finds nothing of them in the package."""
    copy = Path(shutil.copytree(drafted, tmp_path / "work"))
    package = built(copy)
    assert "Initialize-Settings" not in (package / "apply.ps1").read_text("utf-8-sig")
    assert form.read(package).settings == {}


@numeric
def test_the_dossier_and_detection_know_the_sites(office: Path, yendo: Yendo) -> None:
    """What differs between sites is on the page; derived rules hold at all of them."""
    yendo("build", office)
    yendo("prove", office, "--quiet")
    yendo("dossier", office)
    page = next((office / "package").glob("*.dossier.html")).read_text("utf-8")
    assert (
        "What differs between the sites" in page
        and "licences.kettle.example" in page
        and "desk, kettle" not in page.partition("Proof")[0]
    )
    assert "secret-" not in page and "lost on the way" not in page
    found = parsed(yendo("detect", "derive", office, "--json"))
    assert {"this version, as at kettle", "this version, as at marrowby"} & set(found["states"]) == {
        "this version, as at marrowby"
    }
    assert not any("licences." in str(one["rule"]) for one in found["rules"])
    assert any(
        str(one["rule"].get("path", "")).startswith("{setting.charts}") for one in found["rules"]
    )  # that folder is chosen at delivery
    assert (
        parsed(yendo("detect", "strength", office, "--site", "kettle", "--json", expect=None))["strength"]["score"]
        > 0.5
    )
    assert "say for which site" in yendo("detect", "export", office, "--as", "json", expect=2).stderr
    exported = yendo("detect", "export", office, "--as", "oval", "--site", "kettle").stdout
    assert "licences.kettle.example" in exported and "{setting" not in exported
    assert "no [site]" not in yendo("prove", office, "--site", "hull", expect=2).stderr
