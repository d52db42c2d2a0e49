"""The office's own: its house file with a logo, and the values that differ between its two sites."""

from __future__ import annotations

import io
from pathlib import Path

import tomlkit

from yendo.draft import writing

SITES = ("marrowby", "kettle")
HOUSE = """# What the survey office says once for all its packages; a plan's own word wins.
name = "Marrowby harbour survey office"
logo = "office.png"

[plan.package]
contact = "packages@survey.marrowby.example"

[plan.when]
os = ">=10.0.17763"

[plan.log]
folder = '%ProgramData%\\Marrowby\\logs'

[plan.in_the_way]
wait = "1 min"
postpone = 2
postpone_for = "2 days"

[plan.in_the_way.text]
en = "The survey office renews a program. Soundings that are not saved are lost."
de = "Das Vermessungsbüro erneuert ein Programm. Ungespeicherte Lotungen gehen verloren."

[severity]
undecided = "note"

[[rule]]
id = "long-step"
severity = "warning"
must = { of = "install.*.timeout", at_most = "30 min" }
message = "a step may take longer than a shift's break"
why = "the boats leave on time"
do = "give it 30 min, or agree a longer one with the quay"

[[after.install]]
kind = "registry"
key = 'HKLM\\Software\\Marrowby\\Help'
values = { Desk = "packages@survey.marrowby.example" }
note = "what the help program shows on every machine"
"""
SETTINGS = """
[settings.office]
meaning = "the office that the machine belongs to"
type = "choice"
allowed = ["Marrowby", "Kettle"]
default = "Marrowby"

[settings.gauge]
meaning = "the tide gauge that Lantern reads"
default = "quay 3"

[site.marrowby]
gauge = "quay 3"

[site.kettle]
office = "Kettle"
gauge = "bank 1"
"""
CONFIGURATION = "[site]\r\nname = {setting.office} survey office\r\ntide_gauge = {setting.gauge}\r\n"


def logo() -> bytes:
    """A light over water, drawn here."""
    from PIL import Image, ImageDraw

    picture = Image.new("RGB", (160, 160), "#1b4965")
    draw = ImageDraw.Draw(picture)
    draw.polygon([(68, 120), (92, 120), (87, 52), (73, 52)], fill="#f1f5f8")
    draw.rectangle([(70, 38), (90, 52)], fill="#f4c95d")
    draw.polygon([(66, 38), (94, 38), (80, 24)], fill="#a4303f")
    draw.polygon([(92, 45), (152, 26), (152, 62)], fill="#f4c95d")
    for at in (128, 140):
        draw.line([(12, at), (40, at - 5), (68, at), (96, at - 5), (124, at), (148, at - 4)], fill="#9fc5e8", width=4)
    out = io.BytesIO()
    picture.save(out, "PNG", optimize=True)
    return out.getvalue()


def furnish(folder: Path) -> None:
    """Writes the house file above the office's workspaces, where none is there."""
    if not (folder / "house.toml").exists():
        (folder / "house.toml").write_text(HOUSE, "utf-8")
        (folder / "office.png").write_bytes(logo())


def settle(workspace: Path) -> None:
    """Puts what differs between the sites into settings: the office in the transform, both values in the configuration
    file.
    """
    (workspace / "extras" / "site.ini").write_bytes(CONFIGURATION.encode())
    path = workspace / "plan.toml"
    document, wanted = tomlkit.parse(path.read_text("utf-8")), tomlkit.parse(SETTINGS)
    for step in writing.part(document, "install"):
        if step.get("from") == "extras/site.ini":
            step.add("fill", True)
        for change in step.get("change", []):
            if change.get("name") == "SITE":
                change["value"] = "{setting.office}"
    for rule in writing.part(document, "detect"):
        if str(rule.get("path", "")).endswith("site.ini"):
            rule.remove("sha256")  # what is in it is chosen at delivery
    way = writing.part(document, "in_the_way")
    for key in ("wait", "postpone", "postpone_for", "text"):
        if key in way:
            way.remove(key)
    document.add("settings", wanted["settings"])
    document.add("site", wanted["site"])
    path.write_text(writing.spaced(tomlkit.dumps(document)), "utf-8")
