"""The same program for the office's other computers: Lantern for macOS, from Tidewell's bundle to a proved package."""

from __future__ import annotations

import plistlib
import re
import shutil
from importlib.resources import files
from pathlib import Path

import msgspec

from yendo.check.workspace import Finding
from yendo.mac_half import build, check, draft, prove, reading
from yendo.mac_half.build import MacBuilt
from yendo.mac_half.prove import MacProof
from yendo.package.code_signing import sign_code

BUNDLE, IMAGE, PACKAGE = "Lantern.app", "lantern-6.2.1.dmg", "lantern-6.2.1.pkg"
SHORT = ("desk", "processor", "open", "changed", "twice")  # what the demonstration plays; `yendo prove` plays all
_INFO = {
    "CFBundleDisplayName": "Lantern",
    "CFBundleExecutable": "lantern",
    "CFBundleIdentifier": "com.tidewell.lantern",
    "CFBundleName": "Lantern",
    "CFBundlePackageType": "APPL",
    "CFBundleShortVersionString": "6.2.1",
    "CFBundleVersion": "6.2.1.4711",
    "LSMinimumSystemVersion": "12.0",
    "NSLocalNetworkUsageDescription": "Lantern looks for tide gauges in the harbour's network.",
}
_HARBOUR = '# What a fresh Lantern knows of the harbour.\nquays = ["north", "south"]\n'
# What the office adds to the plan that was drafted.
_DECIDED = """
[[install]]
kind = "settings"
domain = "com.tidewell.lantern"
values = { Updates = false, Site = "Marrowby" }
note = "updates come as packages"

[[install]]
kind = "settings"
domain = "com.tidewell.lantern"
whose = "persons"
values = { ShowTips = false }

[[install]]
kind = "copy"
source = "site.ini"
to = "/Library/Application Support/Tidewell/Lantern/site.ini"
note = "the office's configuration; who changes it keeps it"

[[install]]
kind = "launchd"
label = "com.tidewell.lantern.sync"
program = ["/Applications/Lantern.app/Contents/MacOS/lantern", "--sync"]
interval = "1 h"
"""


class Half(msgspec.Struct, frozen=True):
    """What came of each step."""

    workspace: Path
    decisions: tuple[str, ...]
    findings: tuple[Finding, ...]
    built: MacBuilt
    proof: MacProof


def app(target: Path) -> Path:
    """The vendor's bundle: a property list, a program for both sorts of processor, what it brings; sealed."""
    inside = target / "Contents"
    for name in ("MacOS", "Resources"):
        (inside / name).mkdir(parents=True)
    (inside / "Info.plist").write_bytes(plistlib.dumps(_INFO))
    (inside / "PkgInfo").write_bytes(b"APPL????")
    (inside / "Resources" / "harbour.toml").write_bytes(_HARBOUR.encode())
    program = inside / "MacOS" / "lantern"
    program.write_bytes(_data("lantern"))
    program.chmod(0o755)
    sign_code(target, None)  # sealed, though by nobody: Tidewell is invented, and so would be its certificate
    return target


def _data(name: str) -> bytes:
    return files("yendo.demo").joinpath("mac", name).read_bytes()


def share(folder: Path) -> None:
    """What Tidewell gave for macOS: the bundle, an image with it, and a package of their own."""
    shutil.rmtree(folder / BUNDLE, ignore_errors=True)
    app(folder / BUNDLE)
    for name in (IMAGE, PACKAGE):
        (folder / name).write_bytes(_data(name))


def tell(folder: Path) -> Half:
    """Drafts, decides, checks, builds and proves it in a workspace of its own."""
    workspace = folder / "lantern-mac"
    decisions: tuple[str, ...] = ()
    if not reading.is_here(workspace):
        decisions = draft.draft(workspace, [folder / "from-tidewell" / BUNDLE]).decisions
        decide(workspace, folder / "site.ini")
    plan, _ = reading.read(workspace)
    findings = tuple(check.check(workspace))
    built = build.build(workspace, plan)
    return Half(workspace, decisions, findings, built, prove.prove(workspace, plan, SHORT))


def decide(workspace: Path, configuration: Path) -> None:
    """What a packager at Marrowby decides."""
    (workspace / "extras").mkdir(exist_ok=True)
    shutil.copyfile(configuration, workspace / "extras" / "site.ini")
    path = workspace / reading.NAME
    text = path.read_text("utf-8")
    text = re.sub(r"(?m)^identifier = \"local\.lantern\".*$", 'identifier = "example.marrowby.lantern"', text)
    path.write_text(text.replace("\n[[detect]]", f"{_DECIDED}\n[[detect]]"), "utf-8")
