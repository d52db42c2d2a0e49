"""The dossier: what it says, what it refuses, and how it looks in a real browser."""

from __future__ import annotations

import re
import shutil
import subprocess
from html.parser import HTMLParser
from pathlib import Path

import pytest
from conftest import Yendo, missing, numeric, parsed

from yendo.machines.simulated.machine import SimulatedMachine
from yendo.package import build
from yendo.plan import read
from yendo.prove import dossier
from yendo.prove.prove import keep, prove

HEADLESS = [
    "--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run", "--disable-background-networking", "--disable-component-update",
    "--disable-sync",
]  # fmt: skip


@pytest.fixture
def browser() -> str:
    found = shutil.which("chromium")
    if found is None:
        missing("chromium", "apt-get install chromium, to see the page in a real browser")
    assert found
    return found


@pytest.fixture
def proved(workspace: Path, yendo: Yendo) -> Path:
    yendo("build", workspace)
    yendo("prove", workspace, "--scenario", "all", "--quiet", expect=None)
    return workspace


class Page(HTMLParser):
    """Visible words, and everything that would be fetched."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.words, self.fetched, self.open = "", [], []
        self.feed(text)

    def handle_starttag(self, tag: str, attributes: list[tuple[str, str | None]]) -> None:
        if tag not in ("meta", "link", "img", "br", "use", "path"):
            self.open.append(tag)
        self.fetched += [
            value
            for name, value in attributes
            if value and name in ("src", "href", "xlink:href") and not value.startswith("#")
        ]

    def handle_endtag(self, tag: str) -> None:
        if tag in self.open:
            del self.open[len(self.open) - 1 - self.open[::-1].index(tag) :]

    def handle_data(self, data: str) -> None:
        if "style" not in self.open:
            self.words += data


@numeric
def test_what_it_says(proved: Path, yendo: Yendo, tmp_path: Path) -> None:
    done = parsed(yendo("dossier", proved, "-o", tmp_path / "page.html", "--json"))
    text = (tmp_path / "page.html").read_text("utf-8")
    page = Page(text)
    assert done["schema"] == "yendo.dossier/1" and done["size"] == len(text.encode())
    assert page.fetched == [] and "<script" not in text, "it needs nothing else"
    for words in (
        "Lantern 6.2.1", "What it changes on a machine", "lantern.exe", "LanternTide", "msiexec /i", "exit codes of the runner", "DepthLimit", "windows: >=10.0.17763",
        "simulated only", "nothing was observed on a real one", "SelfTest", "removed twice, installed again", "of what may be broken is detected", "not caught:",
        "File[lantern.exe]", "the package is not signed",
    ):  # fmt: skip
        assert words in page.words, words
    assert text.count('id="cell') == len(list((proved / "package").glob("*.proof-*.json")))
    again = yendo("dossier", proved, "-o", tmp_path / "again.html").stdout
    assert "needs nothing else" in again and (tmp_path / "again.html").read_text("utf-8") == text, (
        "the same proof gives the same page"
    )


def test_it_belongs_to_these_bytes(proved: Path, yendo: Yendo) -> None:
    package = next((proved / "package").glob("*-r1"))
    (package / "extras" / "site.ini").write_text("changed since")
    assert "the proof belongs to other bytes" in yendo("dossier", proved, expect=2).stderr
    shutil.rmtree(package)
    plan = proved / "plan.toml"
    plan.write_text(plan.read_text("utf-8").replace('version = "==6.2.1"', 'version = ">=6.2.1"'), "utf-8")
    yendo("build", proved, expect=None)
    assert "has changed since its proof" in yendo("dossier", proved, expect=2).stderr
    for record in (proved / "package").glob("*.proof-*.json"):
        record.unlink()
    assert "there is no proof" in yendo("dossier", proved, expect=2).stderr


@numeric
def test_words_of_a_vendor_stay_words(tmp_path: Path) -> None:
    """Markup in a name, and a secret in a command line."""
    from specimens import Specimen

    from yendo.draft import draft

    specimen = Specimen("hostile").with_file()
    name = "<script>alert(1)</script>"
    specimen.tables["Property"] = [
        (key, name if key == "ProductName" else value) for key, value in specimen.tables["Property"]
    ]
    draft.from_installer(tmp_path / "w", specimen.ours(tmp_path))
    plan = tmp_path / "w" / "plan.toml"
    text = plan.read_text("utf-8")
    text = (
        text.replace("[install.properties]\n", '[install.properties]\nLICENCE_PASSWORD = "open-sesame"\n')
        if "[install.properties]" in text
        else text.replace(
            'timeout = "30 min"\n', 'timeout = "30 min"\nproperties = { LICENCE_PASSWORD = "open-sesame" }\n', 1
        )
    )
    plan.write_text(text, "utf-8")
    package = build.build(tmp_path / "w", read(plan)[0]).folder
    keep(prove(package, SimulatedMachine()), package)
    page = dossier.page(package, workspace=tmp_path / "w")
    assert "<script>" not in page and "&lt;script&gt;" in page
    assert "open-sesame" not in page and "****" in page


def test_in_a_real_browser(proved: Path, yendo: Yendo, tmp_path: Path, browser: str) -> None:
    """The browser lays it out without a complaint, narrow and wide, and prints it."""
    yendo("dossier", proved, "-o", tmp_path / "page.html", "--pdf", tmp_path / "page.pdf")
    pdf = (tmp_path / "page.pdf").read_bytes()
    assert pdf.startswith(b"%PDF-") and len(re.findall(rb"/Type\s*/Page\b", pdf)) >= 2
    page = (tmp_path / "page.html").as_uri()
    probe = tmp_path / "probe.html"
    text = (tmp_path / "page.html").read_text("utf-8").replace("default-src 'none'; ", "")
    script = "<script>onload=()=>{document.title=[document.documentElement.scrollWidth>innerWidth?'wide':'fits',document.querySelectorAll('.chart svg').length,document.querySelectorAll('h2').length,document.querySelectorAll('details').length>20].join('|')}</script>"
    probe.write_text(text.replace("</body>", script + "</body>"), "utf-8")
    for width in (1280, 700):
        call = [
            browser,
            *HEADLESS,
            f"--user-data-dir={tmp_path}/profile",
            f"--window-size={width},900",
            "--dump-dom",
            probe.as_uri(),
        ]
        done = subprocess.run(call, capture_output=True, text=True, timeout=60, check=True)
        assert "<title>fits|1|9|true</title>" in done.stdout, done.stdout[:300]
    assert page.startswith("file:")
    assert (
        "needs a browser"
        in yendo("dossier", proved, "--pdf", tmp_path / "b.pdf", environment={"PATH": "/nowhere"}, expect=2).stderr
    )
