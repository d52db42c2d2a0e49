"""The papers of a half for macOS: dossier, hand-over sheet, and what is remembered of a hand-over."""

from __future__ import annotations

import json
import re
import shutil
from pathlib import Path

import jsonschema
import mac_half_specimens as made
import mac_signing
import pytest
from conftest import Yendo, missing, parsed, unix

from yendo.mac_half import build
from yendo.mac_half.machine import sandbox
from yendo.plan.model import schema
from yendo.prove.mac_sheet import MacSheet

pytestmark = unix
SCHEMA = Path(__file__).parents[1] / "docs" / "mac-sheet.schema.json"
STEPS = (
    made.APP
    + """
[[install]]
kind = "settings"
domain = "com.tidewell.lantern"
values = { Updates = false }
whose = "managed"
note = "updates come as <b>packages</b>"

[[install]]
kind = "copy"
source = "north.dat"
to = "/Library/Charts & more/north.dat"
"""
)


@pytest.fixture
def workspace(tmp_path: Path, yendo: Yendo) -> Path:
    if why := sandbox.lacking():
        missing(why, sandbox.HOW_TO_GET)
    folder = made.workspace(tmp_path / "w", STEPS)
    (folder / "extras/north.dat").write_bytes(b"north\n")
    yendo("build", "w", "-q")
    return folder


def _signed(folder: Path, yendo: Yendo) -> None:
    both, _ = mac_signing.identity(folder.parent)
    for package in sorted(folder.glob("package/*/*.pkg")):
        yendo("sign", package, "--identity", both)


def test_the_dossier_says_what_was_proved_of_these_bytes(workspace: Path, yendo: Yendo) -> None:
    pytest.importorskip("matplotlib")
    assert "there is no proof" in yendo("dossier", "w", expect=2).stderr
    yendo("prove", "w", "--scenario", "desk", "--scenario", "twice", "-q")
    signs = bool(shutil.which("openssl"))
    if signs:
        _signed(workspace, yendo)  # the proof is of what is in it, and a signature adds nothing to that
    yendo("dossier", "w", "-o", "it.html")
    page = (workspace.parent / "it.html").read_text("utf-8")
    text = re.sub(r"<[^>]+>", " ", page)
    for words in ("2 of 2 scenarios passed", "no Mac was asked", "north.dat", "Charts &amp; more", "not played"):
        assert words in text, words
    assert "updates come as &lt;b&gt;packages" in page
    assert ("the signature holds" in text) is signs and ("the package is not signed" in text) is not signs
    assert "lantern.mobileconfig" in text and "0644 0:0" in text
    assert not re.search(r"<script|(src|href)=.?https?:", page)
    if signs:
        assert [one["state"] for one in parsed(yendo("shelf", ".", "--json"))["workspaces"]] == ["proved"]
    (workspace / "extras/north.dat").write_bytes(b"south\n")
    for command in ("dossier", "handover"):
        assert "have changed since lantern-6.2.1-r1-macos was built" in yendo(command, "w", expect=2).stderr
    yendo("build", "w", "-q")
    assert "belongs to other bytes" in yendo("dossier", "w", expect=2).stderr
    (workspace / build.FOLDER / "lantern-6.2.1-r1-macos" / "detect.sh").write_bytes(b"#!/bin/sh\necho installed\n")
    assert "have changed since" in yendo("dossier", "w", expect=2).stderr


def test_the_sheet_has_what_a_service_asks_for(workspace: Path, yendo: Yendo) -> None:
    assert "were not proved" in yendo("handover", "w", "--data", "it.json").stdout
    data = json.loads((workspace.parent / "it.json").read_text("utf-8"))
    jsonschema.validate(data, json.loads(SCHEMA.read_text("utf-8")))
    assert [one["what"] for one in data["uploads"]] == [
        "first: a profile, to the machines",
        "the package",
        "takes it away; lays nothing",
        "detection, as a script",
    ]
    assert data["receipt"] == ["example.marrowby.lantern", "6.2.1.1"] and data["closes"] == ["example.tidewell.lantern"]
    assert data["bundles"] == [
        {"identifier": "example.tidewell.lantern", "version": "6.2.1", "path": "/Applications/Lantern.app"}
    ]
    page = next(workspace.glob("package/*.sheet.html")).read_text("utf-8")
    assert "These bytes were never proved" in page and "installer -pkg lantern-6.2.1-r1.pkg -target /" in page
    yendo("prove", "w", "--scenario", "desk", "-q")
    assert "a management service takes signed ones only" in yendo("handover", "w").stdout


def test_the_sheet_s_form_is_published() -> None:
    published = schema(MacSheet, "Yendo hand-over sheet for macOS")
    assert json.loads(SCHEMA.read_text("utf-8")) == json.loads(json.dumps(published))


def test_what_was_handed_over_has_to_rise(workspace: Path, yendo: Yendo) -> None:
    assert "handed over" in yendo("handover", "w", "--done").stdout
    assert "not-rising" not in yendo("check", "w").stdout
    (workspace / "extras/north.dat").write_bytes(b"south\n")
    yendo("build", "w", "-q")
    assert "is not what was handed over as 6.2.1, revision 1" in yendo("check", "w", expect=1).stdout
    path = workspace / "macos.toml"
    text = path.read_text("utf-8")
    path.write_text(text.replace('version = "6.2.1"', 'version = "6.2.1"\nrevision = 2', 1), "utf-8")
    assert "not-rising" not in yendo("check", "w").stdout
    path.write_text(text.replace('version = "6.2.1"', 'version = "6.1.9"', 1), "utf-8")
    assert "it is 6.1.9, revision 1, and 6.2.1, revision 1 was handed over" in yendo("check", "w", expect=1).stdout


def test_two_halves_have_a_page_each(workspace: Path, yendo: Yendo, vendor: Path) -> None:
    """The half for Windows is drafted beside; each page by itself where only one is meant."""
    yendo("prove", "w", "--scenario", "desk", "-q")
    yendo("draft", "w", vendor / "lantern-6.2.1.msi")
    assert "one file: --system" in yendo("handover", "w", "-o", "x.html", expect=2).stderr
    assert "no built package" in yendo("handover", "w", expect=2).stderr
    yendo("handover", "w", "--system", "macos", "-o", "x.html")
    assert "for macOS" in (workspace.parent / "x.html").read_text("utf-8")
    yendo("decide", "w", "--accept-defaults", "--answer", "package.contact=x", "--answer", "media.origin=y")
    yendo("build", "w", "-q")
    told = parsed(yendo("handover", "w", "--json"))  # one object, whatever there is
    assert told["macos"]["proved"] and not told["proved"]
    assert len(sorted(workspace.glob("package/*.sheet.html"))) == 2
