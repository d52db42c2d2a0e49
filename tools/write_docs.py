"""Writes the documents that come from the code: the plan's JSON Schema, and the reference of rules and exit codes."""

from __future__ import annotations

import json
from pathlib import Path
from typing import get_args

import msgspec

from yendo.check import RULES
from yendo.installers.msi.actions import NOT_INTERPRETED, STANDARD
from yendo.machines.wine import quirks
from yendo.package.manifest import EXIT_CODES, MSI_CODES, MSI_GONE
from yendo.plan.model import Change, schema

DOCS = Path(__file__).parents[1] / "docs"


def reference() -> str:
    """The reference page as Markdown."""
    lines = [
        "# Reference",
        "",
        "Written by `tools/write_docs.py` from the code.",
        "",
        "## What `yendo check` looks for",
        "",
        "| rule | severity | why it matters |",
        "|---|---|---|",
    ]
    lines += [f"| `{rule.id}` | {rule.severity} | {rule.why} |" for rule in RULES.values()]
    lines += ["", "## Exit codes of the runner", "", "Every other code is the installer's own.", "", "| code | meaning |", "|---|---|"]
    lines += [f"| {code} | {meaning} |" for code, meaning in EXIT_CODES.items()]
    lines += [
        "",
        "## What the codes of an msi step mean",
        "",
        "A step's own `codes` come before these.",
        "",
        "| code | when | meaning |",
        "|---|---|---|",
    ]
    lines += [f"| {code} | always | {meaning} |" for code, meaning in MSI_CODES.items()]
    lines += [f"| {code} | uninstall | {meaning} |" for code, meaning in MSI_GONE.items()]
    lines += [
        "",
        "## Kinds of change",
        "",
        "What an msi step can want different, as `[[install.change]]`; a transform is made of it at build time.",
        "",
        "| kind | keys | what it does |",
        "|---|---|---|",
    ]
    for kind in get_args(Change):
        keys = ", ".join(f"`{field.encode_name}`" + ("" if field.required else " (optional)") for field in msgspec.structs.fields(kind) if field.name != "note")
        lines.append(f"| `{kind.__struct_config__.tag}` | {keys} | {' '.join((kind.__doc__ or '').split())} |")
    lines += [
        "",
        "## What a prediction carries out",
        "",
        "Standard actions with a rule: " + ", ".join(f"`{name}`" for name in sorted(STANDARD)) + ".",
        "",
        "Custom actions that set a property or a folder, or stop, are evaluated; every other one is a blind spot, and `yendo msi actions` shows its source",
        "where it is a script. Named blind spots by table:",
        "",
        "| table | what |",
        "|---|---|",
        *(f"| `{table}` | {what} |" for table, what in NOT_INTERPRETED.items()),
        "",
        "## Where the API layer differs from Windows",
        "",
        "Predictions follow Windows' documentation; these are counted apart wherever they are compared with the layer.",
        "",
        "| id | what |",
        "|---|---|",
        *(f"| `{quirk.id}` | {quirk.reason} |" for quirk in quirks.QUIRKS),
        *(f"| exit code {ours} | {reason}: it ends with {theirs} |" for (ours, theirs), reason in quirks.EXIT_CODES.items()),
    ]
    return "\n".join(lines) + "\n"


def main() -> None:
    DOCS.mkdir(exist_ok=True)
    (DOCS / "plan.schema.json").write_text(json.dumps(schema(), indent=2) + "\n", "utf-8")
    (DOCS / "reference.md").write_text(reference(), "utf-8")


if __name__ == "__main__":
    main()
