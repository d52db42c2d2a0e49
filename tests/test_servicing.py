"""Parts of the system, updates and image files. Images are made by wimtools, cabinets by other writers; the manifests
are ours, since no real package of the system is in the registries.
"""

from __future__ import annotations

import io
import json
import random
import re
import shutil
import struct
import subprocess
from pathlib import Path
from typing import Any

import pytest
import servicing_specimens
from conftest import Yendo, missing, numeric, parsed
from hypothesis import given, settings
from hypothesis import strategies as st

from yendo.errors import Unreadable
from yendo.formats import cab, wim
from yendo.machines.simulated.machine import SimulatedMachine
from yendo.package import build
from yendo.plan import read as read_plan
from yendo.prove.prove import prove
from yendo.servicing import manifest, reading

MUM = """<?xml version="1.0" encoding="utf-8" standalone="yes"?>
<assembly xmlns="urn:schemas-microsoft-com:asm.v3" manifestVersion="1.0" displayName="{shown}" company="Marrowby">
  <assemblyIdentity name="{name}" version="{version}" language="{language}" processorArchitecture="{processor}" publicKeyToken="0000000000000000"/>
  <package identifier="{article}" releaseType="{release}" restart="{restart}" permanence="{permanence}">
    {parents}
    <update name="Tide-Gauge" displayName="tide gauge"><package integrate="hidden"><assemblyIdentity name="Tide-Gauge-Package" version="10.0.1.1" language="neutral" processorArchitecture="amd64"/></package></update>
    {declared}
  </package>
</assembly>
"""
PARENT = """<parent buildCompare="{compare}" integrate="separate"><assemblyIdentity name="{name}" version="{version}" language="neutral" processorArchitecture="amd64"/></parent>"""
DECLARED = """<declareCapability><capability><capabilityIdentity name="Language.Basic" language="de-DE" version="0.0.1.0"/></capability><dependency><capabilityIdentity name="Language.Fonts" language="" version="0.0.1.0"/></dependency></declareCapability>"""
UNATTEND = """<?xml version="1.0"?><unattend xmlns="urn:schemas-microsoft-com:unattend"><servicing><package action="install"><assemblyIdentity name="{name}" version="{version}" language="neutral" processorArchitecture="amd64" publicKeyToken="0000000000000000"/><source location="%configsetroot%\\{file}"/></package></servicing></unattend>"""
PROPERTIES = 'ApplyTo="Windows 10.0"\r\nBuild Date="2026/10/01"\r\nKB Article Number="9900001"\r\nProcessor Architecture="amd64"\r\n'


def mum(**more: str) -> bytes:
    parents = more.pop("parents", PARENT.format(compare="EQ", name="Tide-Foundation", version="10.0.19041.1"))
    given = {
        "shown": "", "name": "Package_for_KB9900001", "version": "19041.4100.1.2", "language": "neutral", "processor": "amd64",
        "article": "KB9900001", "release": "Update", "restart": "possible", "permanence": "removable", "declared": "",
    }  # fmt: skip
    return MUM.format(parents=parents, **{**given, **more}).encode()


def package(path: Path, data: bytes, other: bool = True) -> Path:
    """A cabinet with a manifest, by another writer than ours where ``other``."""
    files = {"update.mum": data, "update.cat": b"0" * 900, "payload/tide.dll": b"MZ" * 4000}
    if not other:
        path.write_bytes(cab.build(files.items()))
        return path
    from cabarchive import CabArchive, CabFile

    archive = CabArchive()
    for name, content in files.items():
        archive[name] = CabFile(content)
    path.write_bytes(archive.save(compress=True))
    return path


# --- packages ---------------------------------------------------------------------------------------------------------


@pytest.mark.parametrize("other", [True, False])
def test_a_package(tmp_path: Path, yendo: Yendo, other: bool) -> None:
    made = package(tmp_path / "tide.cab", mum(permanence="permanent", declared=DECLARED, restart="required"), other)
    found = parsed(yendo("read", made, "--json"))
    own = found["manifest"]
    assert own["identity"] == {"name": "Package_for_KB9900001", "version": "19041.4100.1.2", "processor": "x64",
                               "language": "neutral", "token": "0000000000000000"}  # fmt: skip
    assert own["permanent"] and own["features"] == ["Tide-Gauge"] and own["inner"][0]["name"] == "Tide-Gauge-Package"
    assert own["capabilities"] == ["Language.Basic~~~de-DE~0.0.1.0"] and own["needs"] == ["Language.Fonts~~~~0.0.1.0"]
    assert found["builds"] == ["19041"] and found["condition"] == 'os = ">=10.0.19041, <10.0.19046"'
    said = yendo("read", made).stdout
    for words in ("cannot be removed", "Tide-Foundation 10.0.19041.1", 'os = ">=10.0.19041'):
        assert words in said, said


def test_forty_for_the_right_build_and_the_wrong(tmp_path: Path) -> None:
    """The derived condition admits a machine of the build, of those that share its base, and no other."""
    pytest.importorskip("numpy")
    from yendo.fleet.asking import asked, question
    from yendo.fleet.columns import columns_of

    sharing = {
        "19041": ("19041", "19042", "19044", "19045"),
        "22621": ("22621", "22631"),
        "26100": ("26100",),
        "17763": ("17763",),
    }
    count = 0
    for base, own in sharing.items():
        parents = PARENT.format(compare="GE", name="Tide-Foundation", version=f"10.0.{base}.1")
        made = package(tmp_path / f"{base}.cab", mum(parents=parents, version=f"{base}.1.1.0"))
        found = reading.read(made)
        builds = ("17763", "19041", "19042", "19044", "19045", "22000", "22621", "22631", "26100", "27000")
        machines = columns_of(builds, {"windows": [f"10.0.{one}.1" for one in builds]}, {}, {})
        answers = asked(question(reading.condition(found)), machines).whole
        for one, answer in zip(builds, answers, strict=True):
            assert (answer == 1) == reading.fits(found.builds, one) == (one in own), (base, one)
            count += 1
    assert count == 40


def test_an_update_with_packages_in_it(tmp_path: Path, yendo: Yendo) -> None:
    inner = package(tmp_path / "Tide10.0-KB9900001-x64.cab", mum())
    broken = b"MSCF" + b"\0" * 60
    files = [
        (inner.name, inner.read_bytes()),
        ("tide-broken.cab", broken),
        ("Tide.xml", UNATTEND.format(name="Package_for_KB9900001", version="19041.4100.1.2", file=inner.name).encode()),
        ("Tide-pkgProperties.txt", PROPERTIES.encode()),
        ("WSUSSCAN.cab", package(tmp_path / "scan.cab", mum()).read_bytes()),
    ]
    update = tmp_path / "tide.msu"
    update.write_bytes(cab.build(files))
    found = parsed(yendo("read", update, "--json"))
    assert found["sort"] == "update" and [one["file"] for one in found["parts"]] == [inner.name, "tide-broken.cab"]
    first = found["parts"][0]
    assert first["identity"] == first["manifest"]["identity"] and found["says"]["KB Article Number"] == "9900001"
    assert len(found["unread"]) == 1 and "tide-broken.cab" in found["unread"][0]
    assert "KB Article Number" in yendo("read", update).stdout


@pytest.mark.parametrize("data", [b"", b"<a/>", b"<!DOCTYPE a [<!ENTITY b 'c'>]><a>&b;</a>", mum()[:-30], b"\xff" * 40])
def test_what_is_no_manifest(data: bytes) -> None:
    with pytest.raises(Unreadable):
        manifest.read(data, "update.mum")


def test_a_cabinet_that_is_no_package(tmp_path: Path, yendo: Yendo) -> None:
    """A cabinet of a vendor is what it was before."""
    plain = tmp_path / "plain.cab"
    plain.write_bytes(cab.build([("tide.txt", b"x")]))
    assert reading.read(plain) is None
    empty = tmp_path / "empty.msu"
    empty.write_bytes(cab.build([("WSUSSCAN.cab", b"x"), ("a.txt", b"y")]))
    assert "no package in it" in yendo("read", empty, expect=3).stderr


# --- image files ------------------------------------------------------------------------------------------------------


def made_by_wimtools(folder: Path, compress: str, *, solid: bool = False, split: bool = False) -> Path:
    """An image file with two images that say that they hold a Windows; made and described by another program."""
    if not shutil.which("wimcapture"):
        missing("wimtools", "apt-get install wimtools")
    tree, path = folder / "tree", folder / ("install.esd" if solid else "install.wim")
    (tree / "Windows" / "System32").mkdir(parents=True)
    for number in range(40):
        (tree / "Windows" / f"tide{number}.dat").write_bytes(random.Random(number).randbytes(20_000))
    more = ["--solid"] if solid else [f"--compress={compress}"]
    for number, (verb, edition) in enumerate((("wimcapture", "Core"), ("wimappend", "Professional")), 1):
        line = [
            verb,
            tree,
            path,
            f"Tide {edition}",
            f"for the {edition}",
            *(more if number == 1 else ["--solid"] if solid else []),
        ]
        subprocess.run([str(one) for one in line], check=True, capture_output=True)
        values = {
            "WINDOWS/ARCH": "9", "WINDOWS/EDITIONID": edition, "WINDOWS/INSTALLATIONTYPE": "Client",
            "WINDOWS/VERSION/MAJOR": "10", "WINDOWS/VERSION/MINOR": "0", "WINDOWS/VERSION/BUILD": "26100",
            "WINDOWS/VERSION/SPBUILD": "1742", "WINDOWS/LANGUAGES/LANGUAGE": "de-DE", "DISPLAYNAME": f"Gezeiten {edition}",
        }  # fmt: skip
        properties = [f"--image-property={name}={value}" for name, value in values.items()]
        subprocess.run(["wiminfo", str(path), str(number), *properties], check=True, capture_output=True)
    if split:
        subprocess.run(["wimsplit", str(path), str(folder / "install.swm"), "0.2"], check=True, capture_output=True)
        return folder / "install.swm"
    return path


@pytest.mark.parametrize(("compress", "solid", "split"), [("none", False, False), ("XPRESS", False, False), ("LZX", False, True), ("LZMS", True, False)])  # fmt: skip
def test_editions_of_an_image_file(tmp_path: Path, yendo: Yendo, compress: str, solid: bool, split: bool) -> None:
    path = made_by_wimtools(tmp_path, compress, solid=solid, split=split)
    found = parsed(yendo("read", path, "--json"))
    told = subprocess.run(["wiminfo", str(path)], capture_output=True, text=True, check=True).stdout
    parts = re.split(r"(?m)^Index:", told)[1:]
    judged = [dict(re.findall(r"(?m)^([A-Z][^:\n]+):\s+(.*)$", "Index:" + part)) for part in parts]
    assert len(found["images"]) == len(judged) == 2
    for ours, theirs in zip(found["images"], judged, strict=True):
        assert str(ours["index"]) == theirs["Index"] and ours["name"] == theirs["Display Name"]
        assert (
            ours["edition"] == theirs["Edition ID"]
            and ours["processor"] == "x64"
            and theirs["Architecture"] == "x86_64"
        )
        assert (
            ours["build"]
            == f"{theirs['Major Version']}.{theirs['Minor Version']}.{theirs['Build']}.{theirs['Service Pack Build']}"
        )
        assert ours["languages"] == theirs["Languages"].split() and str(ours["size"]) == theirs["Total Bytes"]
    assert found["solid"] == solid and found["packing"] == ("" if compress == "none" else compress)
    assert (found["parts"] > 1) == split and found["part"] == 1
    said = yendo("read", path).stdout
    assert "Gezeiten Professional" in said and "10.0.26100.1742" in said


def test_a_large_image_file_is_not_read_through(tmp_path: Path) -> None:
    """Four gigabytes with a hole: only the header and the description are read."""
    path = made_by_wimtools(tmp_path, "none")
    data = bytearray(path.read_bytes())
    place = struct.unpack_from("<Q", data, 80)[0]
    struct.pack_into("<Q", data, 80, place + (4 << 30))
    with (tmp_path / "large.wim").open("wb") as file:
        file.write(data[:208])
        file.seek(place + (4 << 30))
        file.write(data[place:])

    class Counting(io.FileIO):
        read_bytes = 0

        def read(self, size: int | None = -1, /) -> bytes:
            found = super().read(-1 if size is None else size)
            Counting.read_bytes += len(found or b"")
            return found or b""

    with Counting(tmp_path / "large.wim") as file:
        assert len(wim.read(file).images) == 2 and Counting.read_bytes < 10_000


def test_an_update_that_is_an_image(tmp_path: Path, yendo: Yendo) -> None:
    path = made_by_wimtools(tmp_path, "LZX").rename(tmp_path / "tide.msu")
    found = parsed(yendo("read", path, "--json"))
    assert found["sort"] == "update as an image" and "its packages are not read" in json.dumps(found["unread"])


@settings(max_examples=200, deadline=None)
@given(st.binary(max_size=400), st.integers(0, 207), st.binary(min_size=1, max_size=8))
def test_image_files_that_make_no_sense(tail: bytes, at: int, change: bytes) -> None:
    head = bytearray(
        wim.MAGIC + struct.pack("<III", 208, 0x10D00, 0) + b"\0" * 20 + struct.pack("<HHI", 1, 1, 1) + b"\0" * 160
    )
    head[at : at + len(change)] = change
    try:
        wim.read(io.BytesIO(bytes(head) + tail))
    except Unreadable:
        pass


# --- brought by a package ---------------------------------------------------------------------------------------------


def drafted(place: Path, yendo: Yendo, name: str, data: bytes) -> Path:
    place.mkdir(exist_ok=True)
    (place / name).write_bytes(data)
    yendo("draft", place / "w", place / name)
    return place / "w"


def test_from_an_update_to_the_proof(tmp_path: Path, yendo: Yendo) -> None:
    """What can be removed is taken out again; what stays says so, is not asked how it is removed, and changes nothing
    when it is to go.
    """
    workspace = drafted(tmp_path / "a", yendo, "kb.msu", servicing_specimens.usual())
    text = (workspace / "plan.toml").read_text("utf-8")
    for line in (
        'os = ">=10.0.19041, <10.0.19046"', 'kind = "system-package"', 'kind = "take-back"', 'name = "Package_for_KB9900001"',
        'package = "Package_for_KB9900001~31bf3856ad364e35~amd64~~19041.4100.1.2"', 'version = ">=19041.4100.1.2"',
    ):  # fmt: skip
        assert line in text, text
    yendo("build", workspace)
    for scenario in ("desk", "twice", "interrupted"):
        assert parsed(yendo("prove", workspace, "--scenario", scenario, "--json"))["passed"]
    wrong = parsed(yendo("prove", workspace, "--windows", "11-24h2", "--json", expect=1))
    assert "not applicable: windows is 10.0.26100" in json.dumps(wrong)

    stays = drafted(tmp_path / "b", yendo, "kb.cab", servicing_specimens.cabinet(more=' permanence="permanent"'))
    assert "is permanent: Windows does not remove it" in (stays / "plan.toml").read_text("utf-8")
    assert "0 errors" in yendo("check", stays).stdout or "error" not in yendo("check", stays).stdout
    yendo("build", stays)
    proof = parsed(yendo("prove", stays, "--json"))
    assert (
        proof["passed"] and {one["id"]: one["found"] for one in proof["phases"]}["stays"] == "exit code 20, 0 effects"
    )
    several = servicing_specimens.update(
        ("Package_for_KB9900001", "19041.4100.1.2", servicing_specimens.cabinet()),
        ("Package_for_KB9900003", "19041.4099.1.1", servicing_specimens.cabinet("Package_for_KB9900003", "19041.4099.1.1")),
    )  # fmt: skip
    text = (drafted(tmp_path / "c", yendo, "both.msu", several) / "plan.toml").read_text("utf-8")
    assert "are not removed as one" in text and text.count('kind = "system-package"') == 3
    assert "no update that can be read" in yendo("draft", tmp_path / "n", _none(tmp_path), expect=2).stderr


@numeric
def test_the_dossier_says_that_it_stays(tmp_path: Path, yendo: Yendo) -> None:
    stays = drafted(tmp_path / "b", yendo, "kb.cab", servicing_specimens.cabinet(more=' permanence="permanent"'))
    yendo("build", stays)
    yendo("prove", stays, "-q")
    yendo("dossier", stays)
    (page,) = (stays / "package").glob("*.dossier.html")
    assert "It cannot be removed: Package_for_KB9900001 is permanent" in page.read_text("utf-8")


def _none(place: Path) -> Path:
    (place / "none.msu").write_bytes(cab.build({"a.txt": b"a"}.items()))
    return place / "none.msu"


@pytest.mark.parametrize(
    ("line", "code", "there"),
    [
        ("wusa.exe C:\\x\\kb.msu /quiet /norestart", 0, "19041.4100.1.2"),
        ("wusa.exe C:\\x\\kb.msu /quiet /norestart", 2359302, "19041.4100.1.2"),
        ("dism.exe /online /add-package /packagepath:C:\\x\\older.cab", 0, "19041.4100.1.2"),
        ("dism.exe /online /add-package /packagepath:C:\\x\\newer.cab", 0, "19041.4200.1.1"),
        ("dism.exe /online /add-package /packagepath:C:\\x\\other.cab", -2146498530, "19041.4200.1.1"),
        ("wusa.exe C:\\x\\other.msu /quiet", -2145124329, "19041.4200.1.1"),
        (
            "dism.exe /online /remove-package /packagename:Package_for_KB9900001~a~amd64~~1.1.1.1",
            -2146498555,
            "19041.4200.1.1",
        ),
        ("dism.exe /online /remove-package /packagename:Package_for_KB9900001~a~amd64~~19041.4200.1.1", 0, ""),
    ],
)
def test_one_after_the_other(tmp_path: Path, line: str, code: int, there: str) -> None:
    """On the simulated machine: there already, replaced, not for this system, not known, removed."""
    name = "Package_for_KB9900001"
    files = {
        "kb.msu": servicing_specimens.usual(), "older.cab": servicing_specimens.cabinet(name, "19041.4000.1.1"),
        "newer.cab": servicing_specimens.cabinet(name, "19041.4200.1.1"),
        "other.cab": servicing_specimens.cabinet(name, "26100.1.1.1", build=26100),
        "other.msu": servicing_specimens.update((name, "26100.1.1.1", servicing_specimens.cabinet(name, "26100.1.1.1", build=26100))),
    }  # fmt: skip
    for file, data in files.items():
        (tmp_path / file).write_bytes(data)
    lines = [values[0] for values in test_one_after_the_other.pytestmark[0].args[1]]
    with SimulatedMachine().fresh() as session:
        session.bring(tmp_path, "C:\\x")
        codes = [session.run(one, timeout=60).exit_code for one in lines[: lines.index(line) + 1]]
        if code == 2359302:
            codes.append(session.run(line, timeout=60).exit_code)
        found = session.state().get("part", f"system-package:{name}".lower())
    assert codes[-1] == code and (getattr(found, "value", "") or "") == there


PLAN = r"""
[package]
id = "tide"
name = "Tide"
version = "1"
permanent = "a trial"
[[install]]
kind = "system-package"
from = "extras/tide.msu"
"""
BY_FILE = "[[detect]]\nkind = \"file\"\npath = '%SystemRoot%\\System32\\tide\\tide.dll'\n"
BY_LIST = '[[detect]]\nkind = "system-package"\nname = "Package_for_KB9900001"\nversion = ">=19041.4100"\n'
BY_CAPABILITY = '[[detect]]\nkind = "capability"\nname = "Tide.Gauge~~~~0.0.1.0"\n'


def built(place: Path, rule: str) -> Path:
    (place / "extras").mkdir(parents=True)
    (place / "extras" / "tide.msu").write_bytes(servicing_specimens.usual())
    (place / "plan.toml").write_text(PLAN + rule, "utf-8")
    return build.build(place, read_plan(place / "plan.toml")[0]).folder


@pytest.mark.wine
def test_another_reader_installs_it(tmp_path: Path, shell_wine: Any) -> None:
    """The layer's own update program takes the update that we wrote, through the runner: the file and the value are there.
    Of what is told by the servicing program nothing is claimed there.
    """
    proof = prove(built(tmp_path / "a", BY_FILE), shell_wine)
    phases = {one.id: one for one in proof.phases}
    assert proof.passed and phases["stays"].outcome == "passed", proof.phases
    with shell_wine.fresh() as real:
        real.bring(tmp_path / "a" / "extras", "C:\\x")
        assert real.run("wusa.exe C:\\x\\tide.msu /quiet /norestart", timeout=60).exit_code == 0
        state = real.state()
    assert state.get("file", "c:\\windows\\system32\\tide\\tide.dll") is not None
    value = state.get("registry", "hklm/64\\software\\tidewell\\gauge!version")
    assert getattr(value, "value", getattr(value, "data", None)) == "10.0.1.1", value
    open_one = prove(built(tmp_path / "b", BY_LIST), shell_wine)
    assert open_one.outcome == "not executed" and "answer nothing about" in open_one.phases[0].found


@pytest.mark.wine
@pytest.mark.parametrize(
    ("rule", "answer", "there"),
    [
        (BY_LIST, "Package Identity : Package_for_KB9900001~a~amd64~~19041.4100.1.2\r\nState : Installed\r\n", True),
        (BY_LIST, "Package Identity : Package_for_KB9900001~a~amd64~~19041.4100.1.2\r\nState : Install Pending\r\n", False),
        (BY_LIST, "Package Identity : Package_for_KB9900001~a~amd64~~19041.4100.1.2\r\nState : Staged\r\n", False),
        (BY_LIST, "Package Identity : Package_for_KB9900001~a~amd64~~19041.4000.1.2\r\nState : Installed\r\n", False),
        (BY_LIST, "Package Identity : Package_for_KB99~a~amd64~~19041.4100.1.2\r\nState : Installed\r\n", False),
        (BY_LIST, "Package Identity : Package_for_KB99~a~amd64~~1.1.1.1\r\nState : Staged\r\nRelease Type : Update\r\n\r\n"
         "Package Identity : Package_for_KB9900001~a~amd64~~19041.4200.1.2\r\nState : Installed\r\n", True),
        (BY_CAPABILITY, "Capability Identity : Tide.Gauge~~~~0.0.1.0\r\nState : Installed\r\n", True),
        (BY_CAPABILITY, "Capability Identity : Tide.Gauge~~~~0.0.1.0\r\nState : Not Present\r\n", False),
    ],
)  # fmt: skip
def test_what_the_servicing_program_says(
    tmp_path: Path, shell_wine: Any, stand_in: Path, rule: str, answer: str, there: bool
) -> None:
    """The detection script with a stand-in for the servicing program, whose answers are as it writes them."""
    import test_steps

    package = built(tmp_path / "a", rule)
    with shell_wine.fresh() as real:
        real.bring(package, "C:\\package")
        test_steps.put_stand_ins(real, stand_in, ("dism",))
        real.write("C:\\answer.txt", answer.encode())
        ran = real.run("powershell -NoProfile -ExecutionPolicy Bypass -File C:\\package\\detect.ps1", timeout=60)
        called = (real.read("C:\\standin.log") or b"").decode()
    assert ran.exit_code == (0 if there else 1) and "/english /online /get-" in called, ran.output
