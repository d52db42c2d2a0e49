"""The upgrade of the system: drafted from media, carried out by the interpreter, and what its setup says read."""

from __future__ import annotations

import json
import shutil
from pathlib import Path

import msgspec
import pytest
from conftest import Yendo, parsed
from hypothesis import given
from hypothesis import strategies as st
from test_media import made
from test_servicing import made_by_wimtools

from yendo.machines.simulated.machine import SimulatedMachine
from yendo.package import build
from yendo.plan import read
from yendo.platforms.windows import systems
from yendo.prove.causes import causes, of_code
from yendo.prove.stage import Stage
from yendo.servicing import upgrade
from yendo.terms.rules import RegistryRule


def upgrade_plan(more: str = "") -> str:
    """A plan with nothing but the step."""
    return (
        '[package]\nid = "windows"\nname = "Windows"\nversion = "26100"\n'
        'permanent = "Windows keeps the earlier one for 10 days"\n\n[[install]]\nkind = "system-upgrade"\n'
        f'from = "extras/media"\nbuild = "26100"\nnotice = "1 min"\n{more}\n[[detect]]\nkind = "registry"\n'
        'key = \'HKLM\\Software\\Microsoft\\Windows NT\\CurrentVersion\'\nname = "CurrentBuild"\nversion = ">=26100"\n'
    )


def media(place: Path) -> Path:
    """Media with two editions of build 26100, and files that somebody put beside."""
    tree = place / "tree"
    (tree / "sources").mkdir(parents=True)
    (place / "i").mkdir()
    shutil.copyfile(made_by_wimtools(place / "i", "none"), tree / "sources" / "install.wim")
    (tree / "setup.exe").write_bytes(b"MZ")
    (tree / "boot").mkdir()
    (tree / "boot" / "bcd").write_bytes(b"b")
    (tree / "Readme.txt").write_text("by the office")
    return tree


@pytest.mark.parametrize("kind", ["folder", "iso"])
def test_from_media_to_the_proof(tmp_path: Path, yendo: Yendo, kind: str) -> None:
    """What lies beside the media is left out, and said; the machine of the proof has an edition and a language of them."""
    tree = media(tmp_path)
    source = tree if kind == "folder" else made(tree, tmp_path / "tide.iso", "-hide", "sources", "-hide", "setup.exe")
    said = yendo("draft", tmp_path / "w", source).stdout
    assert "Readme.txt" in said and not (tmp_path / "w" / "extras" / "media" / "Readme.txt").exists()
    brought = {
        one.relative_to(tmp_path / "w" / "extras").as_posix() for one in (tmp_path / "w" / "extras").rglob("*.*")
    }
    assert {"media/setup.exe", "media/sources/install.wim"} <= brought
    text = (tmp_path / "w" / "plan.toml").read_text("utf-8")
    for line in (
        'kind = "system-upgrade"', 'build = "26100"', 'os = ">=10.0.19041"', 'disk = "20 GB"', 'power = "mains"',
        'architecture = ["x64"]', 'edition = ["Core", "Professional"]', 'language = ["de-DE"]', "always = true",
        'version = ">=26100"', "dism /online /initiate-osuninstall", 'equals = "0407"', 'equals = "Core"',
    ):  # fmt: skip
        assert line in text, text
    (tmp_path / "w" / "plan.toml").write_text(
        text.replace('contact = "" # DECIDE: who answers for this package', 'contact = "office"'), "utf-8"
    )
    assert "nothing found" in yendo("check", tmp_path / "w").stdout
    yendo("build", tmp_path / "w")
    for scenario in ("desk", "put-off", "held", "goes-back", "interrupted", "no-disk"):
        proof = parsed(yendo("prove", tmp_path / "w", "--scenario", scenario, "--json"))
        assert proof["passed"], proof
        assert any(one["id"] == "system-setup" and one["outcome"] == "not executed" for one in proof["phases"])
        if scenario == "goes-back":
            assert sum(one["title"].startswith("goes back") for one in proof["phases"]) == 4
        if scenario == "held":
            assert "named: Tidewell Disk Guard" in json.dumps(proof)
        if scenario == "desk":
            assert "not predicted" in yendo("detect", "strength", tmp_path / "w", expect=None).stderr
            assert "exit code 20" in next(one["found"] for one in proof["phases"] if one["id"] == "stays")


def test_other_media_are_told(tmp_path: Path, yendo: Yendo) -> None:
    tree = media(tmp_path)
    (tree / "setup.exe").unlink()
    assert "no setup program" in yendo("draft", tmp_path / "w", tree, expect=2).stderr
    place = tmp_path / "p"
    (place / "extras" / "media").mkdir(parents=True)
    (place / "plan.toml").write_text(upgrade_plan(), "utf-8")
    assert "holds no media with a setup" in yendo("check", place, expect=1).stdout
    shutil.copytree(tree, place / "extras" / "media", dirs_exist_ok=True)
    (place / "extras" / "media" / "setup.exe").write_bytes(b"MZ")
    assert "holds no media" not in yendo("check", place, expect=None).stdout
    for wrong, said in (
        ('build = "26200"', "the media bring build 26100, not 26200"),
        ('build = "26.1"', "a build, of five digits"),
        ('retries = 2\nbuild = "26100"', "do not fit an upgrade of the system"),
        ('drivers = "C:\\\\d"\nbuild = "26100"', "folders below extras/"),
        ('trial = false\nbuild = "26100"', "nothing asks beforehand"),
    ):
        (place / "plan.toml").write_text(upgrade_plan().replace('build = "26100"', wrong, 1), "utf-8")
        assert said in " ".join(yendo("check", place, expect=None).stdout.split()), said


def test_builds_that_share_their_files(tmp_path: Path, yendo: Yendo) -> None:
    """The media name the base: which build they bring is asked, and all of them are taken for right."""
    tree = media(tmp_path)
    place = tree / "sources" / "install.wim"
    data = place.read_bytes()
    place.write_bytes(data.replace("26100".encode("utf-16-le"), "22621".encode("utf-16-le")))
    yendo("draft", tmp_path / "w", tree)
    text = (tmp_path / "w" / "plan.toml").read_text("utf-8")
    assert 'build = "22631" # DECIDE: the media say 22621, whose files 22631 share' in text
    assert "the media bring" not in yendo("check", tmp_path / "w", expect=None).stdout


@pytest.mark.parametrize(
    ("text", "found"),
    [
        (b"Error MOUPG Result = 0xC1900101, extend = 0x30018", ("0xC1900101", "at the first start of the new system")),
        ("x 0x80070070 - 0x1000d\r\nlater 0x5".encode("utf-16-le"), ("0x80070070", "before the first restart")),
        (b"0xC1900101 0x2000C\n0x80070002, 0x4ABCD", ("0x80070002", "at the second start of the new system")),
        (b"0xC1900101\r\n0x30018 alone", None),
        (b"0x00000000, 0x30018", None),
        (b"", None),
    ],
)
def test_where_it_went_back(text: bytes, found: tuple[str, str] | None) -> None:
    where = upgrade.went_back([b"nothing of that sort", text])
    assert (None if where is None else (where.code, where.phase)) == found


@given(st.binary(max_size=300))
def test_any_log_is_borne(data: bytes) -> None:
    """What the setup left is read by whatever is in it: nothing, or a place that is known."""
    where = upgrade.went_back([data])
    assert where is None or where.phase in upgrade.facts().phases.values()
    assert all(len(name) <= 200 for name in upgrade.held_by([data]))


def test_switches_by_the_media() -> None:
    """Each is told from the build of the media on that understands it; the trial's success is a code of its own."""
    early = [one.text for one in upgrade.switches("upgrade", 17134)]
    late = [one.text for one in upgrade.switches("upgrade", 26100)]
    assert "/eula accept" in late and "/eula accept" not in early and "/bitlocker alwayssuspend" not in early
    assert [one.text for one in upgrade.switches("trial", 17134)] == ["/auto upgrade", "/quiet", "/compat scanonly"]
    assert upgrade.hexadecimal(upgrade.NOTHING_IN_THE_WAY) == "0xC1900210" and upgrade.signed("0x7") == 7
    assert all(one.meaning for one in upgrade.facts().switches)
    assert upgrade.words_of(-1) == upgrade.UNKNOWN


@pytest.mark.parametrize(
    ("edition", "wanted", "words"),
    [("Enterprise", "upgrade-other", "0xC1900204"), ("Core", "upgrade-room", "0xC190020E"), ("Core", "upgrade-back", "0xC1900101")],
)  # fmt: skip
def test_why_it_failed(tmp_path: Path, yendo: Yendo, edition: str, wanted: str, words: str) -> None:
    """A failure names its cause and what to do; foreseeing takes it from the code alone."""
    place = tmp_path / "w"
    (place / "extras").mkdir(parents=True)
    shutil.copytree(media(tmp_path), place / "extras" / "media")
    (place / "plan.toml").write_text(upgrade_plan(), "utf-8")
    package = build.build(place, read(place / "plan.toml")[0]).folder
    current = r"HKLM\Software\Microsoft\Windows NT\CurrentVersion"
    there = (
        RegistryRule(key=current, name="EditionID", equals=edition),
        RegistryRule(key=rf"HKLM\{systems.LANGUAGE_KEY}", name="InstallLanguage", equals="0407"),
    )
    stage = Stage(package, SimulatedMachine(), "system", lambda title: None)
    with SimulatedMachine().fresh() as session:
        session.make_hold(there, "")
        if wanted == "upgrade-room":
            session.facts = msgspec.structs.replace(session.facts, disks={"C": 10**9})
        session.setup.goes_back = "0x30018" if wanted == "upgrade-back" else ""
        stage.bring(session)
        carried = stage.verb(session, "install")
        details, (said, advice) = stage.failed_run(session, "install", carried)
    cause = next(one for one in causes() if one.id == wanted)
    assert (said, advice) == (cause.words, cause.advice) and any(words in line for line in details), details
    assert of_code(carried.exit_code) == (cause.words, cause.advice)
