"""The sheet for whoever types it into a management system, and the record of what was handed over."""

from __future__ import annotations

import json
import re
from html.parser import HTMLParser
from pathlib import Path

import jsonschema
import pytest
from conftest import Yendo, parsed

ROOT = Path(__file__).parents[1]
ABOUT = """owner = "Survey office"
category = "Charts"
keywords = ["tides", "harbour"]
support = "https://tidewell.example/lantern"
date = "2026-02-01"
description = "Shows <b>tides</b> & depths"
"""
WISHES = """
[wishes]
offer = "on request"
first = "the two machines of the pilot boat"
by = "2026-03-01"
told = { en = "Lantern is renewed.", de = "Lantern wird erneuert." }
"""


class Text(HTMLParser):
    """What a person reads of a page."""

    def __init__(self, page: str) -> None:
        super().__init__()
        self.words: list[str] = []
        self.feed(page)

    def handle_data(self, data: str) -> None:
        self.words.append(data)


@pytest.fixture
def lantern(vendor: Path, tmp_path: Path, yendo: Yendo) -> Path:
    yendo("draft", "lantern", vendor / "lantern-6.2.1.msi")
    yendo("decide", "lantern", "--accept-defaults", "--answer", "package.contact=x", "--answer", "media.origin=y")
    path = tmp_path / "lantern" / "plan.toml"
    path.write_text(path.read_text().replace("[[media]]", ABOUT + "\n[[media]]", 1) + WISHES)
    yendo("build", "lantern")
    return tmp_path / "lantern"


def test_the_sheet_has_what_is_asked_for(lantern: Path, yendo: Yendo, tmp_path: Path) -> None:
    yendo("prove", "lantern")
    yendo("handover", "lantern", "-o", "sheet.html", "--data", "sheet.json")
    data = json.loads((tmp_path / "sheet.json").read_text())
    jsonschema.validate(data, json.loads((ROOT / "docs" / "sheet.schema.json").read_text()))
    assert data["owner"] == "Survey office" and data["keywords"] == ["tides", "harbour"]
    assert [command["line"] for command in data["commands"]] == [
        "apply.cmd install",
        "apply.cmd uninstall",
        "apply.cmd repair",
    ]
    assert data["proofs"][0]["verdict"] == "proved" and not data["proofs"][0]["runner_executed"]
    assert data["account"] == "the system account" and data["wishes"]["offer"] == "on request"
    page = (tmp_path / "sheet.html").read_text()
    text = " ".join(" ".join(Text(page).words).split())
    for words in ("apply.cmd install", "pilot boat", "Lantern wird erneuert.", "Shows <b>tides</b> & depths", "3010"):
        assert words in text
    assert "<b>tides" not in page and not re.search(r"<script|https?://(?!tidewell\.example)", page)
    assert data["size"] == sum(
        path.stat().st_size for path in (lantern / "package").glob("*/**/*") if path.is_file()
    ) - ((next((lantern / "package").glob("*/manifest.json"))).stat().st_size)


def test_the_picture_is_the_plans_or_the_installers(lantern: Path, yendo: Yendo, tmp_path: Path) -> None:
    yendo("handover", "lantern", "--data", "sheet.json")
    assert json.loads((tmp_path / "sheet.json").read_text())["icon"] == ""  # this database has none
    picture = b"\x89PNG\r\n\x1a\n" + b"0" * 20
    (lantern / "extras" / "lantern.png").write_bytes(picture)
    path = lantern / "plan.toml"
    path.write_text(path.read_text().replace("owner =", 'icon = "extras/lantern.png"\nowner =', 1))
    yendo("build", "lantern")
    yendo("handover", "lantern", "--data", "sheet.json")
    assert json.loads((tmp_path / "sheet.json").read_text())["icon"].startswith("data:image/png;base64,iVBORw0KGgo")


def test_what_people_are_told_changes_no_machine(lantern: Path, yendo: Yendo) -> None:
    """A machine gets the same: the runner's data and the content are those of a package without it."""
    from yendo.package import build
    from yendo.package import manifest as form

    package = next((lantern / "package").iterdir())
    first = form.read(package)
    path = lantern / "plan.toml"
    path.write_text(path.read_text().replace("Survey office", "Harbour office"))
    yendo("build", "lantern")
    second = form.read(package)
    assert first.about != second.about
    assert build.content_digest(first) == build.content_digest(second) and first.run == second.run


def test_handed_over_is_remembered_and_checked(lantern: Path, yendo: Yendo) -> None:
    """Local builds are nobody's business; what was handed over is held against the next one."""
    path = lantern / "plan.toml"
    changed = path.read_text().replace('os = ">=', 'free_memory = "1 GB"\nos = ">=').replace("free_memory", "memory")
    yendo("handover", "lantern", "--done")
    yendo("handover", "lantern", "--done")
    assert len(json.loads((lantern / "delivered.json").read_text())) == 1
    path.write_text(changed)
    refused = yendo("build", "lantern", expect=1).stdout
    assert "was handed over" in refused and "--although stale-detection=" in refused
    yendo("build", "lantern", "--although", "stale-detection=only new machines get it")
    assert json.loads((lantern / ".yendo" / "built.json").read_text())["although"] == {
        "stale-detection": "only new machines get it"
    }
    path.write_text(changed.replace("revision = 1", "revision = 2"))
    yendo("build", "lantern")


def test_errors_stop_a_build_and_say_what_to_do(lantern: Path, yendo: Yendo) -> None:
    path = lantern / "plan.toml"
    path.write_text(path.read_text().replace("[[detect]]", "[[detect]]\n", 1).split("[[detect]]")[0])
    said = yendo("build", "lantern", expect=1).stdout
    assert "Not built" in said and "next: yendo check lantern" in said
    assert parsed(yendo("build", "lantern", "--json", expect=1))["errors"][0]["rule"]
    assert "write RULE=WHY" in yendo("build", "lantern", "--although", "x", expect=2).stderr
