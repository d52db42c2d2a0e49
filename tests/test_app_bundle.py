"""App packages for several processors in one bundle."""

from __future__ import annotations

import io
import shutil
import subprocess
import zipfile
from pathlib import Path

import pytest
from conftest import Yendo, parsed
from test_app_form import TAKES_APPS, VERIFIER, needed, office, signer

from yendo.errors import Unreadable
from yendo.formats import app_manifest
from yendo.installers import app_rules
from yendo.plan import read

__all__ = ["signer"]  # a fixture


def for_arm(folder: Path, **other: str) -> Path:
    """The same office's workspace for another processor, with words of its plan replaced."""
    office(folder)
    path = folder / "plan.toml"
    text = path.read_text("utf-8").replace('architecture = "x64"', 'architecture = "arm64"')
    for old, new in other.items():
        text = text.replace(old, new)
    path.write_text(text, "utf-8")
    return folder


def test_a_bundle_for_two_processors(tmp_path: Path, yendo: Yendo, signer: Path) -> None:
    arm = parsed(yendo("build", for_arm(tmp_path / "arm"), "--as", "msix", "--certificate", signer, "--json"))["main"]
    folder, _ = office(tmp_path / "w")
    line = ("build", folder, "--as", "msix", "--certificate", signer, "--together-with", arm, "--json")
    made = parsed(yendo(*line))
    bundle = Path(made["main"])
    assert bundle.name.endswith(".msixbundle") and [one.name for one in bundle.parent.iterdir()] == [bundle.name]
    assert parsed(yendo(*line))["digest"] == made["digest"]
    told = app_manifest.read(bundle)
    assert [one.architecture for one in told.packages] == ["x64", "arm64"]
    for one in told.packages:  # where the manifest says, a whole package lies
        data = bundle.read_bytes()[one.place : one.place + one.size]
        inside = tmp_path / one.file
        inside.write_bytes(data)
        assert app_manifest.differing(inside) == [] and app_rules.broken(inside) == []
    needed("7z", "p7zip-full")
    listed = subprocess.run(["7z", "l", "-ba", str(bundle)], capture_output=True, text=True, check=True).stdout
    assert [one.file in listed for one in told.packages] == [True, True] and "AppxBundleManifest.xml" in listed
    # signed as a whole, which another reader takes as well, checked, proved
    assert "TrustedPeople" in yendo("sign", bundle, "--identity", signer).stdout
    if TAKES_APPS:
        other = [VERIFIER, "verify", "-CAfile", signer, "-in", bundle]
        assert "verification: ok" in subprocess.run(other, capture_output=True, text=True, check=True).stdout
    assert "nobody vouched for" in yendo("sign", bundle, "--verify", expect=1).stdout
    form = Path(made["folder"])
    assert read(form / "plan.toml")[0].when.architecture == ("arm64", "x64")
    assert "error" not in yendo("check", form, expect=None).stdout
    yendo("build", form)
    said = " ".join(yendo("prove", form).stdout.split())
    assert "Proved on the simulated machine" in said and "as it was captured" in said


def test_what_is_no_bundle(tmp_path: Path, yendo: Yendo, signer: Path) -> None:
    folder, _ = office(tmp_path / "w")
    line = ("build", folder, "--as", "msix", "--certificate", signer)
    own = Path(parsed(yendo(*line, "--json"))["main"])
    same = shutil.copy(own, tmp_path / "same.msix")
    assert "two of the packages are for x64" in yendo(*line, "--together-with", same, expect=2).stderr
    newer = parsed(
        yendo(
            "build", for_arm(tmp_path / "arm", **{'"4.1"': '"4.2"'}), "--as", "msix", "--certificate", signer, "--json"
        )
    )["main"]
    assert (
        "its version is 4.2.0.0, and this package's is 4.1.0.0"
        in yendo(*line, "--together-with", newer, expect=2).stderr
    )
    assert "--together-with belongs to --as msix" in yendo("build", folder, "--together-with", same, expect=2).stderr


def test_bundles_that_are_damaged(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """One that names what is not there, packs what is to be read in place, or says a wrong place; one with too much."""
    inner = io.BytesIO()
    with zipfile.ZipFile(inner, "w") as archive:
        for number in range(4):
            archive.writestr(f"{number}", b"")
        archive.writestr("AppxBlockMap.xml", '<BlockMap xmlns="a"/>')
    size = len(inner.getvalue())
    body = '<Bundle><Identity Name="A.B" Version="1.0.0.0" Publisher="CN=A"/><Packages><Package Type="application" Version="1.0.0.0" Architecture="x64" FileName="{}" Size="{}" Offset="{}"/></Packages></Bundle>'
    for number, (name, given, place, packed, words) in enumerate((
        ("other.msix", size, 0, False, "which is not in it"), ("a.msix", size, 0, True, "in place"),
        ("a.msix", size + 1, 0, False, "does not lie where"), ("a.msix", size, 7, False, "does not lie where"),
        ("a.msix", size, 0, False, "more than 3 entries"),
    )):  # fmt: skip
        path = tmp_path / f"{number}.msixbundle"
        with zipfile.ZipFile(path, "w") as archive:
            archive.writestr("a.msix", inner.getvalue(), zipfile.ZIP_DEFLATED if packed else zipfile.ZIP_STORED)
            archive.writestr("AppxMetadata/AppxBundleManifest.xml", body.format(name, given, place))
            archive.writestr("AppxBlockMap.xml", '<BlockMap xmlns="a"/>')
        monkeypatch.setattr(app_manifest, "MAX_ENTRIES", 3 if "more than" in words else 99)
        with pytest.raises(Unreadable, match=words):
            app_manifest.differing(path)


def test_a_changed_package_in_a_bundle_is_found(tmp_path: Path, yendo: Yendo, signer: Path) -> None:
    arm = parsed(yendo("build", for_arm(tmp_path / "arm"), "--as", "msix", "--certificate", signer, "--json"))["main"]
    folder, _ = office(tmp_path / "w")
    line = ("build", folder, "--as", "msix", "--certificate", signer, "--together-with", arm, "--json")
    bundle = Path(parsed(yendo(*line))["main"])
    one = app_manifest.read(bundle).packages[1]
    data = bytearray(bundle.read_bytes())
    at = data.index(b"sounder", one.place) + 400  # in a file of the second package
    data[at] ^= 1
    bundle.write_bytes(data)
    try:
        wrong = app_manifest.differing(bundle)
    except Unreadable as error:
        wrong = [str(error)]
    assert wrong and one.file in wrong[0]
