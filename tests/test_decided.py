"""What a person decides is what the machine gets: each of these packages was green once while it did something else."""

from __future__ import annotations

import re
import zipfile
from pathlib import Path

import pytest
import tomlkit
from conftest import Yendo, parsed

from yendo.check import Workspace, check
from yendo.errors import Usage
from yendo.machines.simulated.machine import SimulatedMachine, SimulatedSession
from yendo.package import build
from yendo.package import manifest as form
from yendo.package.carry import carry
from yendo.plan import read

CHANGES = """
[[install.change]]
kind = "property"
name = "AUTOUPDATE"
value = "0"

[[install.change]]
kind = "property"
name = "SITE"
value = "Marrowby"
"""
HEAD = """
[package]
id = "parts"
name = "Parts"
version = "1"
contact = "Marrowby"
"""


def written(folder: Path, change: str) -> Path:
    """A plan with changes below its first install step, as the README has them."""
    plan = folder / "plan.toml"
    text = plan.read_text("utf-8")
    at = text.index("[[uninstall]]")
    plan.write_text(text[:at] + change + "\n" + text[at:], "utf-8")
    return folder


def errors(folder: Path) -> list[str]:
    return [f"{finding.rule}: {finding.message}" for finding in check(Workspace(folder)) if finding.severity == "error"]


def installed(folder: Path, *, then: str | None = None) -> tuple[SimulatedSession, list[int], form.Manifest]:
    """Builds the package and carries it out on a simulated machine; the session, the exit code of each verb, the manifest."""
    built = build.build(folder, read(folder / "plan.toml")[0])
    with SimulatedMachine().fresh() as session:
        session.bring(built.folder, r"C:\Hand over")
        manifest = form.read(built.folder)
        codes = [
            carry(manifest, built.folder, session, verb, folder=r"C:\Hand over").exit_code
            for verb in ("install", *([then] if then else []))
        ]
        return session, codes, manifest


# --- a decided transform --------------------------------------------------------------------------------------


def test_a_draft_decides_nothing(vendor: Path, yendo: Yendo, tmp_path: Path) -> None:
    """The vendor's defaults are comments; with changes for the same properties, those are what the machine gets."""
    done = parsed(yendo("draft", "w", vendor / "lantern-6.2.1.msi", "--json"))
    assert done["defaults"] == ["AUTOUPDATE: 1", "SITE: Unassigned"]
    folder = tmp_path / "w"
    assert not tomlkit.parse((folder / "plan.toml").read_text("utf-8"))["install"][0]["properties"]  # type: ignore[index]
    written(folder, CHANGES)
    assert errors(folder) == []
    session, codes, manifest = installed(folder)
    assert codes == [0] and session.get_value("HKLM", "64", r"Software\Tidewell\Lantern", "Site") == ("sz", "Marrowby")
    command = manifest.install[0].command
    assert "AUTOUPDATE" not in command and "TRANSFORMS" in command


def test_a_property_in_two_places(vendor: Path, yendo: Yendo, tmp_path: Path) -> None:
    yendo("draft", "w", vendor / "lantern-6.2.1.msi")
    folder = written(tmp_path / "w", CHANGES)
    plan = folder / "plan.toml"
    plan.write_text(re.sub(r"(?m)^# (SITE = \S+) .*$", r"\1", plan.read_text("utf-8")), "utf-8")
    found = [finding for finding in check(Workspace(folder)) if finding.rule == "property-twice"]
    lines = plan.read_text("utf-8").splitlines()
    assert len(found) == 1 and lines[found[0].line - 1].startswith("SITE =")
    other = int(re.search(r"the change in line (\d+)", found[0].message)[1])  # type: ignore[index]
    assert 'kind = "property"' in lines[other] and 'name = "SITE"' in lines[other + 1]
    assert "property-twice" in yendo("build", folder, expect=1).stdout


def test_a_vendors_transform_is_not_defeated(vendor: Path, yendo: Yendo, tmp_path: Path) -> None:
    yendo("draft", "made", vendor / "lantern-6.2.1.msi")
    yendo("transform", "make", written(tmp_path / "made", CHANGES), "-o", "theirs.mst")
    done = parsed(yendo("draft", "w", vendor / "lantern-6.2.1.msi", "--with", "theirs.mst", "--json"))
    assert done["defaults"] == ["AUTOUPDATE: 0", "SITE: Marrowby"]
    folder = tmp_path / "w"
    assert '# SITE = "Marrowby"   # stands: theirs.mst' in (folder / "plan.toml").read_text("utf-8")
    session, codes, _ = installed(folder)
    assert codes == [0] and session.get_value("HKLM", "64", r"Software\Tidewell\Lantern", "Site") == ("sz", "Marrowby")
    plan = folder / "plan.toml"
    plan.write_text(re.sub(r'(?m)^# AUTOUPDATE = "0" .*$', 'AUTOUPDATE = "1"', plan.read_text("utf-8")), "utf-8")
    found = [finding for finding in check(Workspace(folder)) if finding.rule == "property-twice"]
    assert len(found) == 1 and "theirs.mst" in found[0].message and "'0'" in found[0].message
    with pytest.raises(Usage, match=r"theirs\.mst"):
        build.build(folder, read(plan)[0])


# --- what a key names comes along ---------------------------------------------------------------------------------


def with_feature(folder: Path, source: str) -> Path:
    step = f'\n[[install]]\nkind = "feature"\nname = "NetFx3"\nsource = \'{source}\'\ntimeout = "10 min"\n[[detect]]\nkind = "feature"\nname = "NetFx3"\n'
    folder.mkdir()
    (folder / "plan.toml").write_text(HEAD + step, "utf-8")
    return folder


def test_a_feature_brings_its_cabinets(tmp_path: Path, yendo: Yendo) -> None:
    folder = with_feature(tmp_path / "w", "extras/side by side")
    assert any("is not there" in line for line in errors(folder))
    assert "is not there" in yendo("build", folder, expect=1).stdout
    cabinets = folder / "extras" / "side by side" / "inner"
    cabinets.mkdir(parents=True)
    assert any("holds no files" in line for line in errors(folder))
    (cabinets / "netfx3.cab").write_bytes(b"MSCF")
    assert errors(folder) == []
    session, codes, manifest = installed(folder, then="uninstall")
    assert "extras/side by side/inner/netfx3.cab" in {file.path for file in manifest.files}
    assert r'/source:"{package}\extras\side by side" /limitaccess' in manifest.install[0].command
    assert codes == [0, 0] and any(
        r'/source:"C:\Program Files\Yendo\packages\parts\extras\side by side"' in line for line in session.called
    )
    yendo("build", folder)
    assert "Proved on the simulated machine" in " ".join(yendo("prove", folder).stdout.split())


def test_a_feature_without_its_cabinets_fails(tmp_path: Path) -> None:
    """Where the folder is not in the package, the servicing program says so on the simulated machine as on a real one."""
    folder = with_feature(tmp_path / "w", "extras/sxs")
    (folder / "extras" / "sxs").mkdir(parents=True)
    (folder / "extras" / "sxs" / "netfx3.cab").write_bytes(b"MSCF")
    built = build.build(folder, read(folder / "plan.toml")[0])
    with SimulatedMachine().fresh() as session:
        session.bring(built.folder, r"C:\Hand over")
        line = r'dism.exe /online /quiet /norestart /enable-feature /featurename:NetFx3 /all /source:"C:\Hand over\extras\other" /limitaccess'
        assert session.run(line, timeout=9).exit_code == -2146498529, "0x800F081F as a program leaves with it"


@pytest.mark.parametrize("link", ["extras/sxs", "extras/sxs/netfx3.cab"])
def test_a_link_is_not_packed(tmp_path: Path, link: str) -> None:
    folder = with_feature(tmp_path / "w", "extras/sxs")
    (folder / link).parent.mkdir(parents=True, exist_ok=True)
    (folder / link).symlink_to("/etc")
    assert errors(folder)
    with pytest.raises(Usage):
        build.build(folder, read(folder / "plan.toml")[0])


# --- modern app packages -----------------------------------------------------------------------------------------------


def app(path: Path, version: str = "1.2.0.0", *, bundle: bool = False) -> Path:
    kind = (
        ("AppxMetadata/AppxBundleManifest.xml", "Bundle", "bundle")
        if bundle
        else ("AppxManifest.xml", "Package", "manifest/foundation/windows10")
    )
    more = "" if bundle else ' ProcessorArchitecture="x64"'
    identity = f'<Identity Name="Tidewell.Tide" Version="{version}" Publisher="CN=Tidewell"{more}/>'
    with zipfile.ZipFile(path, "w") as archive:
        archive.writestr(
            kind[0], f'<{kind[1]} xmlns="http://schemas.microsoft.com/appx/{kind[2]}">{identity}</{kind[1]}>'
        )
    return path


@pytest.mark.parametrize("bundle", [False, True])
def test_an_app_is_known_by_its_identity(tmp_path: Path, yendo: Yendo, bundle: bool) -> None:
    """The file may be called anything; detection asks for the identity, and the removal takes exactly that away."""
    from yendo.digest import of_file

    folder = tmp_path / "w"
    (folder / "media").mkdir(parents=True)
    path = app(folder / "media" / "tide_setup_final (2).msix", bundle=bundle)
    step = f'\n[[install]]\nkind = "msix"\nmedia = "{path.name}"\ntimeout = "10 min"\n[[detect]]\nkind = "app"\nname = "Tidewell.Tide"\nversion = ">=1.2"\n'
    (folder / "plan.toml").write_text(
        HEAD + f'\n[[media]]\nfile = "{path.name}"\nsha256 = "{of_file(path)}"\n' + step, "utf-8"
    )
    session, codes, manifest = installed(folder)
    apps = [(thing.name, thing.value) for thing in session.state().of("part") if thing.sort == "app"]
    assert codes == [0] and apps == [("Tidewell.Tide", "1.2.0.0")]
    yendo("build", folder, "--although", "step-mistake=made here, and not signed")
    assert "Proved on the simulated machine" in " ".join(yendo("prove", folder).stdout.split())
    session, codes, manifest = installed(folder, then="uninstall")
    assert codes == [0, 0] and not [thing for thing in session.state().of("part") if thing.sort == "app"]
    full = manifest.install[0].reverse.rpartition(":")[2]
    assert (
        full
        == ("Tidewell.Tide_1.2.0.0_neutral_~_" if bundle else "Tidewell.Tide_1.2.0.0_x64__") + full.rpartition("_")[2]
        and len(full.rpartition("_")[2]) == 13
    )
